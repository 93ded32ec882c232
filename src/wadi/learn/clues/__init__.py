"""What tells what on a page: names, labels, types, expressions, and how a plan says them."""
