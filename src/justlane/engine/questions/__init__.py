"""The questions beyond one answer: who may, what may they, what differs, does it hold, who is there."""
