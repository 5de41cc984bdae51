"""Parts of the user's own: kept on the shelf, learnt from the things themselves, exchanged with others."""
