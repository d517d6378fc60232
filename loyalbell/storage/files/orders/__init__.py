"""Bringing orders in."""
