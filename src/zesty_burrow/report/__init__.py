"""Results as text and as JSON. The only place that prints."""
