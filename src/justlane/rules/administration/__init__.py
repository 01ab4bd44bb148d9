"""Who administers a platform, and who could on the day on which nothing else works."""
