"""The operations of the route card, a package each, and the one list of them."""
