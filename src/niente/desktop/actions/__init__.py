"""Actions: everything a person can do, by one registry; which can be done now; the finder and the help made from it."""
