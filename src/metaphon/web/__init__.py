"""The web application: thin views that load rows, call the core and render a template."""
