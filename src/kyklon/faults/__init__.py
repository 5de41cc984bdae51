"""The fault finder: which cause is likely, which check is worth its minutes; and drills to practise it."""
