"""What is so by the site file or by somebody's wish, as frozen records: the site, claims, courses, the plan, events, rules."""
