"""Step 7, Draw: surfaces of triangles, their contours and volumes."""
