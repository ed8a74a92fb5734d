"""What is streamed, and on which machine, is decided here.

In: a show file, or options that stand for one.
Out: source, motion, reserves, destinations and the machine's encoders as values.
"""
