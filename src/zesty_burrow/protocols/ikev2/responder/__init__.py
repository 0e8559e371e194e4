"""The end that grants tunnels: one responder for each caller, and the gateway that holds them."""
