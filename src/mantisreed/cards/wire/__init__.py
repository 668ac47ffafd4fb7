"""What is sent to a service, and what comes back."""
