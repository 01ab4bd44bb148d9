"""From a folder to an estate that can be asked: read whole, from what changed, or from what was kept."""
