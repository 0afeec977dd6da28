"""Looks at sources, targets and jobs, and moves nothing."""
