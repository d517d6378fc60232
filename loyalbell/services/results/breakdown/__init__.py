"""What one campaign or sequence brought and added, told apart."""
