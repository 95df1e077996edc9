"""Services: the look, translation, preferences, files and the desktop's bus. They know no session."""
