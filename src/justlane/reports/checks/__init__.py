"""What is wrong, what holds, what owners say."""
