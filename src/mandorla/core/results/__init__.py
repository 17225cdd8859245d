"""What is computed from a project: one entry a result, asked for by key."""
