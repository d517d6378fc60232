"""Files damaged at random: whatever is chosen, the program says what is wrong and goes on."""
