"""Elastic bodies made of equal box elements: stiffness, matrix-free operator, multigrid."""
