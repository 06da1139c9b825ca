"""Attacks on the application: damaged media and documents, wild arguments, wild requests, kills, full disks."""
