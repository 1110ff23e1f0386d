"""Looking sites and voyages over; nothing is changed."""
