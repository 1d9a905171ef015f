"""Looking at an environment: how it stands, and whether its pages are right."""

from .standing import Newest, Standing, counts_of, newest_of, standing

__all__ = ["Newest", "Standing", "counts_of", "newest_of", "standing"]
