"""The performance bars, as ratios against a plain tool in one run. See bench/README.md."""
