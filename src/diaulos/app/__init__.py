"""The window: Qt 6 Widgets. Nothing below this package knows of Qt."""
