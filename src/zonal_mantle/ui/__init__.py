"""The interface: Qt, and only here."""
