"""The stages of a request's way: each gives the ways that a request can take there."""
