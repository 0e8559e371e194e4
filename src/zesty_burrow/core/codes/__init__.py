"""Every code of a finding or error, by what it is about."""
