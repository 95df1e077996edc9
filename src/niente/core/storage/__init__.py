"""The book: the record of everything measured. SQLite, append only; one writer, any number of readers."""
