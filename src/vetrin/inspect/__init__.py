"""Looking only: what an environment holds, whether its pages are right, and how two of them differ."""

from .strays import Stray, StrayScanner

__all__ = ["Stray", "StrayScanner"]
