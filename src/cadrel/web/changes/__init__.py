"""What changes projects, values and what was found on them: one transaction each, no request here."""
