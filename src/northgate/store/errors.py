"""What is wrong with a store, told without loading what reads one."""


class StoreError(Exception):
    """The file is missing, is no store of plans, or is not whole; the message says which."""
