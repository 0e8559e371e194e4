"""What the kernel does with packets: rules, routes and packet filters, for whole classes at once."""
