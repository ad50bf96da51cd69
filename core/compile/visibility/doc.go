// Package visibility is the compile stage that says what can be seen from where: the map's space is
// parted into cells, and each cell has the set of cells that may be seen from it. A pair of cells
// that see each other is never left out; some that don't may be in.
//
//   - cells.go joins the leaves of the partition into cells of a size that is worth telling apart,
//     and finds the portals between cells: a portal is the convex outline of all openings between
//     two cells in one plane. Marks of the source (cut) are always borders of cells, and solids
//     that are detail never are.
//   - flow.go follows sight through portals, clipped at every step by the planes that separate the
//     portal one looks from and the last one looked through (Airey, Rohlf and Brooks, "Towards
//     image realism with interactive update rates", 1990; Teller and Séquin, "Visibility
//     preprocessing for interactive walkthroughs", 1991). A cell sees what its portals see, and two
//     cells see each other when both say so.
//
// A draft takes every two cells for seeing each other between which there is any way. Where
// following sight from one portal takes too many steps, as in the open, what the portal might see
// by its place alone is taken instead.
package visibility
