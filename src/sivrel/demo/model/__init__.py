"""The scripts that model the demo shots. `python -m sivrel.demo.model` writes them anew."""
