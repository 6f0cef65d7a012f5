"""The C99 of a design: templates filled in, scaling, fixed point, tables."""
