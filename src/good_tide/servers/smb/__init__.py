"""Folders on shares of SMB servers."""
