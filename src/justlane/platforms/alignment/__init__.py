"""What has to change on a platform, in which order, and back; how it differs."""
