"""Machines that are reached over SSH. Its modules are loaded only where a host is reached."""
