"""What programs of this machine do, done for a verification: they ask again and again, or connect to a host."""
