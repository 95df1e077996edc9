"""Commands: what an action does to the plan, the machine or the open files. Each can be undone where it changes the project."""
