"""Ciphers and integrity algorithms as IKE and ESP use them."""
