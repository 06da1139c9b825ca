"""What teaches the network that is shipped with the engine: `python -m training.enlarge`."""
