"""What a person needs who reviews a project without Kestrav: a page that plays, and the comments that come back."""
