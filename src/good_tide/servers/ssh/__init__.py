"""Folders on SSH servers."""
