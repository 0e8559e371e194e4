"""What is seen from the outside: addresses, places, leaks."""
