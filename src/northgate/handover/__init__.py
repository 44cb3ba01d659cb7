"""What leaves North Gate: summaries and exports."""
