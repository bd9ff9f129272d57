"""A kind of layer that is no part of Urst: a folder and a line must be all it takes."""
