"""Answering others over HTTP: the OpenID Authorization API 1.0, from an estate that is read again when it changes."""
