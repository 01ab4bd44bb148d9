"""What the person allowed, in their own settings and sealed with their key; no estate is believed here."""
