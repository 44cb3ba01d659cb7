"""What is wrong with a store, told without loading what reads one."""


class StoreError(Exception):
    """The file is missing, is no store of plans, is not whole or cannot be written; the message says which."""
