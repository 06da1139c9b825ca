"""Speed and quality side by side with general-purpose libraries: `make bench`."""
