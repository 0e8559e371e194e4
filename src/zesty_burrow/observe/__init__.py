"""The outside view: the observatory, which reports what it saw, and the observer that asks it."""
