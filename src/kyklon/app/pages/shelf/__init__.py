"""The shelf of parts, and the walks in which a part is learnt."""
