"""The job itself: values in, values out."""
