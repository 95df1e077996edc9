"""The session: the open book, the bench on it, the project and the answers, as the pages read them."""
