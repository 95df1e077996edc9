"""The application: the window with what frames every page, its start, and the report of a bug."""
