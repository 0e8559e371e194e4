"""The process that owns the guard's tables, and how it is talked to."""
