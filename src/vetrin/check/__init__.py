"""Looking at an environment: how it stands, and whether its pages are right."""

from .standing import Newest, Standing, counts_of, newest_of, standing
from .strays import Stray, StrayScanner

__all__ = ["Newest", "Standing", "Stray", "StrayScanner", "counts_of", "newest_of", "standing"]
