"""The devices of the lab."""
