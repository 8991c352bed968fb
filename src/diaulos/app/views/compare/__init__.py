"""Compare: what differs between two things, may they be stacked, and is it heard at all?"""
