"""DNS messages: questions, a zone that answers, encrypted resolvers (RFC 9464)."""
