"""What people look at: tables and maps as Rich renderables. Nothing here prints."""
