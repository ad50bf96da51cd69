// Package bvh finds what rays meet among many triangles. The compile stages that follow light share
// it, and so do pictures.
//
// The triangles stand in a bounding-volume tree that is split where the surface-area heuristic says
// (Goldsmith and Salmon, "Automatic creation of object hierarchies for ray tracing", 1987), found
// in bins (Wald, "On fast construction of SAH-based bounding volume hierarchies", 2007). A node has
// the boxes of both its children, so that a step down costs one line of the processor's cache.
// Triangles are met as in Möller and Trumbore, "Fast, minimum storage ray/triangle intersection",
// 1997.
//
// Metres, in single precision; every product is rounded before it is added, so that all machines give the same answers.
package bvh
