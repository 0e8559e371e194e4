"""The lab's local networks, which can be made to turn hostile: stand-ins for a router and for its other users."""
