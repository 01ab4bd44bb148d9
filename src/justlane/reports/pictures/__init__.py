"""Results as pictures, PNG or SVG, by Matplotlib: readable at 1280x800, for colour-blind eyes, and in grey.

`sheet_of_paper` is what all have in common, `fields` draws grids, `bars` and `stream` the charts.
"""
