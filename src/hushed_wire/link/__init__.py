"""Links: live buses within reach, and the desk, which always is."""
