"""Handles on the picture, one tool a stage."""
