"""What is open and what goes on, without widgets: session, jobs, actions, what is remembered."""
