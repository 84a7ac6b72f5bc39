"""Rendered pictures as files: our own EXR, and pictures of any program."""
