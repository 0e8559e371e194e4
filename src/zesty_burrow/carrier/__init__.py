"""The process that carries a tunnel: pumps the protocol machines and the data path, and answers on a socket."""
