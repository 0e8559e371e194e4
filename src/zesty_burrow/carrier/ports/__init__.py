"""What a session's octets and datagrams go by: sockets and connections, all with the same calls."""
