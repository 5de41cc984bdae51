"""The page of operation 95."""
