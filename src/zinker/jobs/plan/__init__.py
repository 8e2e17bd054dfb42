"""What would be written, and what would be left alone and why: plain data in and out; nothing is changed."""
