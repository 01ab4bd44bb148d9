"""What is open to more people than somebody meant."""
