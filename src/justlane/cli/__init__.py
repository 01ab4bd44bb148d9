"""Storey 7: the command line. The only place that knows Click, the terminal and exit codes."""
