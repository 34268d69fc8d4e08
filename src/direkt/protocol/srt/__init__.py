"""SRT (draft-sharabayko-srt), known by name so far: how its addresses are written, and in which forms devices take them."""
