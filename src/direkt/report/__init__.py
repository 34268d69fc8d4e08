"""What is made for people to keep: pictures and pages. Nothing here knows a device or a terminal."""
