"""What each end can do, and what should be taken."""
