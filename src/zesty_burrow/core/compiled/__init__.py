"""The data path's loops as machine code, for tunnels that carry much: what the columns do, in fewer steps."""
