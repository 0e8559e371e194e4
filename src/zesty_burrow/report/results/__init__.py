"""What commands give back, by area: a command loads only its own."""
