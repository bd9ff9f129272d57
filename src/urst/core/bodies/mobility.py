"""What may move a body."""

#: it never moves; it follows its path; forces move it; it is not there (yet, or any more)
FIXED, DRIVEN, LOOSE, ABSENT = 0, 1, 2, 3
