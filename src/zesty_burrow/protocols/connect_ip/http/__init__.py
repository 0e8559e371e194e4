"""The request that becomes a tunnel, in each version of HTTP."""
