"""Moving shots: their frames rendered as one sequence, judged in motion, filtered through time, and written as a film."""
