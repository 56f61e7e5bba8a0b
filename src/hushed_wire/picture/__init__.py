"""Pictures: files, memory layouts, and what a panel looks like."""
