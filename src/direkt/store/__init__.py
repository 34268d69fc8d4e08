"""What was done and found out, kept beside the rig. No key ever stands in it."""
