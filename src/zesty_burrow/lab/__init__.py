"""The simulated internet that ships with the program: hosts in network namespaces of its own, with fault knobs."""
