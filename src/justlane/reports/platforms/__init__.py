"""What platforms hold, need and do."""
