"""The rig: everything for one production. Its file and its parts, changes to it, and whether a person trusts it."""
