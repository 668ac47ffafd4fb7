"""What a second engine hears of what is doubtful."""
