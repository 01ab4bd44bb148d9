"""How an estate is written. Two of these are asked only by estates that want them."""
