"""The Build and everything it is made of: frozen, validated records without behaviour beyond validation."""
