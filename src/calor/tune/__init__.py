"""Tuning: what is to be tuned as a linear process, rules, tests on the simulated load, margins, and what gains do."""
