"""What runs steps: this machine, a batch system, a scheduler of tasks."""
