"""The room of a picture on a page, in the units of its drawing."""

TOP, LEFT, HEIGHT, WIDTH = 36.0, 110.0, 300.0, 640.0
