"""Commands about the tunnel and what can be seen from outside."""
