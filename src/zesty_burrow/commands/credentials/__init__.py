"""Commands about credentials, and what others ask of them."""
