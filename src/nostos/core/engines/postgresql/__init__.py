"""PostgreSQL behind the protocol. Values travel as the server's own text, so that nothing is lost on the way."""
