"""Pieces that several reports are made of: chains of lines, conditions, edits and findings."""
