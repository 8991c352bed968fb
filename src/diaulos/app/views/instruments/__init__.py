"""The Instruments view: what each one puts out, what the input does to it, one trim each."""
