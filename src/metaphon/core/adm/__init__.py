"""The Audio Definition Model (ITU-R BS.2076-2): a mix with its positions, as XML in a BW64 file."""
