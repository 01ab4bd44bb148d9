"""What an estate declares, kept in a form that is read only where it is asked."""
