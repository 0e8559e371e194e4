"""What was changed on this machine, and who holds the record of it."""
