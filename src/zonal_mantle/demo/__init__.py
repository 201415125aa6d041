"""demo."""
