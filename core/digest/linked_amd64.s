// This file lets functions be declared that are written in another package.
