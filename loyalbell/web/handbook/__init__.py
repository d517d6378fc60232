"""The guide inside the application: ``docs/guide`` with its pictures, and what each page says of itself."""
