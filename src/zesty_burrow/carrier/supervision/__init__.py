"""What the supervisor is made of that is not about packets: states, waits, timers."""
