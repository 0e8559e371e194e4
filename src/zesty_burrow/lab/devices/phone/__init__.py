"""A phone of the lab: its settings form, its trust store, its built-in client, and its owner."""
