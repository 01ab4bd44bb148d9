"""The questions beyond one answer: who may, what may they, what is given to whom, does it hold, who is there."""
