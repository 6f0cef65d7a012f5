"""The Loop room: the run over time, its verdict and the advice on it."""
