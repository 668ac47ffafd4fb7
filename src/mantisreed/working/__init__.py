"""Workers: several machines take recordings from one queue."""
