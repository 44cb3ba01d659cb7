"""What a plan is made of: its models, each with the words that it is called by. Knows nobody else."""
