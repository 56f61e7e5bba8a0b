"""What people see: terminal text, figures, and the records of the JSON interface."""
