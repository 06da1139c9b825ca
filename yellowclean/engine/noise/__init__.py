"""What noise is described by: the profile, the domain in which it is even, and noise made after a profile."""
