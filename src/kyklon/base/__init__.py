"""What all stand on: errors, progress, quantities, places, tools, durable writing. Imports nothing of ours above it."""
