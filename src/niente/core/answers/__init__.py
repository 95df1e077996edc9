"""Answers: what a book says to each question that was asked of it, as documents."""
