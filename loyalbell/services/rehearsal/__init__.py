"""A sequence played without sending anything: over past or coming days, and by hand for one customer."""
