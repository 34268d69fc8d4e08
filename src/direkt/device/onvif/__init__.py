"""The open standard that IP cameras share (ONVIF): Device, Media (Profile S), Media2 (Profile T) and PTZ services.

``client`` carries requests and logs in, ``build`` writes elements, ``settings`` turns encoder configurations into
channels and back, ``media`` asks for and sets them, ``manage`` is about the device itself, ``driver`` is what the rest sees.
"""
