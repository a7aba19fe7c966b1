"""What runs did, turned round."""
