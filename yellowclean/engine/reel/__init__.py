"""The reel: a timeline in, its events as shots, and the same timeline out again."""
