"""How high is high enough, where the next second goes, and which way a shot uses: ladder, budget, match, advice."""
