-- Days since 1970 on which the store was open: by them what was deleted ages, not by one look at a clock.
CREATE TABLE day_seen (day INTEGER PRIMARY KEY);
