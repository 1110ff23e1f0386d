"""Trial: the same public pages visited on live and in staging, and what a visitor would notice compared."""
