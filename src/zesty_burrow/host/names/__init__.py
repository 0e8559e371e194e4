"""Who answers this machine's questions for names: its resolver file, and what the tunnels want of it together."""
