"""The book of a build: everything decided, issued, foretold and logged, to print or to publish."""
