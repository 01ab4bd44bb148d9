"""An estate as it was: revisions in git, an earlier day, when each line came, reviews that were given out."""
