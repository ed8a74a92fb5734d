"""What is streamed, and with what, is decided here.

In: a show file or what was said in its place.
Out: source, motion, reserves, destinations and the machine's encoders as values.
"""
