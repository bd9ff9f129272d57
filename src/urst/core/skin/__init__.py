"""The skin of a liquid: a closed surface from its level set, its walls and its particles."""
