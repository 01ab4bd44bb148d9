"""The disk: opening only what lies inside a folder, writing so that nothing is lost, tables that may be damaged."""
