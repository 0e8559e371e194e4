"""The outside's eye: the observatory that tells what it saw, and the observer that asks it."""
