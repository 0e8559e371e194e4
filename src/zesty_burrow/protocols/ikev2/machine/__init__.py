"""What both ends of a negotiation have in common."""
