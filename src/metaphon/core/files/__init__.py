"""Reading and writing: audio files, intake, the mix document."""
