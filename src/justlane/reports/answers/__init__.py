"""What one question answers: yes or no and why, where, who, side by side."""
