"""Units of systemd that start a tunnel, or the guard, with the machine or when somebody signs in."""
