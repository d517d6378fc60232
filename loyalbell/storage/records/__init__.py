"""Records of every kind taken into the book: from files and from other programs alike."""
