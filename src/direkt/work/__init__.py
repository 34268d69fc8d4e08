"""Jobs that take steps: typed generators of events that print nothing and ask nothing of their own.

A job yields what happens, and questions, to which it is sent the answers; it returns its result. steps.drive() runs one
for a front end. On Ctrl-C, a KeyboardInterrupt raised or thrown into a job makes it bring its device into a known state.
"""
