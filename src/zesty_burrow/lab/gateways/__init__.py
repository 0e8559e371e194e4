"""The gateways of the lab: hosts that speak the protocols for real, with faults to inject."""
