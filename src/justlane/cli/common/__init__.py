"""What commands share: options and arguments, the terminal, consent before anything is changed."""
