"""How a running tunnel is asked and told, and how it is left running."""
