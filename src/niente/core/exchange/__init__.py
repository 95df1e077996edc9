"""Exchange: documents on their way out, as text, pages to print, and files that other programs read."""
