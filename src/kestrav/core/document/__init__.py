"""What a project is: frozen records, their validation and the edits on them."""
