"""Commands for devices, and those that run on them."""
