"""Settings of one place's world as they are in another's: crosswalks, policies, people."""
