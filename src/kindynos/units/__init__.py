"""Units of quantities: how their texts are read, and what they are of products, powers and sums."""
