"""The rules and the sound: no interface code below this line."""
