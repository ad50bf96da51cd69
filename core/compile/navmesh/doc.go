// Package navmesh is the compile stage that says where agents of a size can walk.
//
//   - ground.go cuts the plan into small square cells and finds, for each, every height at which an
//     agent stands: where the ground is not too steep, and nothing that it can't step over is
//     nearer than its radius, up to its height. Faces are cut to cells exactly, so that heights are
//     those of the surface (a height field of spans, as in Haumont, Debled-Rennesson and Sillion,
//     "Volumetric cell-and-portal generation", 2003, but with heights that are not rounded).
//   - polygons.go joins cells of one slope into rectangles, and finds the lines over which one
//     walks from one to the next.
//   - links.go adds ways that are no walking: down from ledges, over gaps, up ladders, through doors; and islands.
//
// The plan is worked on in tiles that overlap by an agent's radius, on all processors. Package
// pathfind asks the result for ways.
package navmesh
