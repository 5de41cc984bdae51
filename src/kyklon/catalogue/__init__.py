"""Parts, standards, dialects and layouts as data, with one strict loader. Imports kyklon.model only."""
