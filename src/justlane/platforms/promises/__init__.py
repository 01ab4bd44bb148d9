"""What every connector promises, tried on drawn estates and on real platforms."""
