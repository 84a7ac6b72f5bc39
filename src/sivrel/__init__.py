"""Sivrel: choose, tune and diagnose ways of finding bounced light and shadows."""

__version__ = "0.1.0"
