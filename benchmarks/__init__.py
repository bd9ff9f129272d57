"""Speed, as ratios within one run: absolute times differ from machine to machine."""
