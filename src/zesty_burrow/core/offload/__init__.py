"""Many packets as one: splitting what the kernel hands over in one piece, joining what it will take in one piece."""
