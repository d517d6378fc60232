"""How often people come back."""
