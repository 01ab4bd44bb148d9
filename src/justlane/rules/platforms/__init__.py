"""What real platforms cannot do as it is declared."""
