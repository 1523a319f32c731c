"""The few workings on streams of sound that everything else is made of, once each."""
