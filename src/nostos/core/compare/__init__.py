"""What each side changed since the anchor, field by field, item by item."""
