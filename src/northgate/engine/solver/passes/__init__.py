"""Passes over one state: forward to targets, through their queues, and back."""
