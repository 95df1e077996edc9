"""The frozen documents: what a machine, a setting, a question, a plan and a record are, and how they are read and written."""
