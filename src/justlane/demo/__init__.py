"""The estates that ship with the tool: plain files."""
