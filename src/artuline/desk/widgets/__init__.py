"""Small parts of which panels and dialogs are made."""
