"""Text to facts and back: phrases, questions, rules and schedules as people write them."""
