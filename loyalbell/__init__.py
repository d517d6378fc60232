"""Loyal Bell: retention marketing for shops, restaurants, salons and clinics."""

__version__ = "0.7.0"
