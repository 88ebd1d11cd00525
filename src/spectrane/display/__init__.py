"""How a look is carried out: from numbers to a picture that says what it is."""
