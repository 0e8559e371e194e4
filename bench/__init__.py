"""Benchmarks: ratios against something measured in the same run."""
