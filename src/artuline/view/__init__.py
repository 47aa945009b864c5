"""Camera, shaders, draw lists: a scene becomes an image. No window."""
