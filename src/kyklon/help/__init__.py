"""What Kyklon explains of itself: a topic for each page, jobs from beginning to end, words, findings, cautions."""
