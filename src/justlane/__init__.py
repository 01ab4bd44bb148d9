"""Just Lane: declare who may do what where, ask, align the platforms, and prove it."""

__all__ = ["__version__"]
__version__ = "0.1.0"
