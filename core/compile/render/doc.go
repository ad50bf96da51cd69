// Package render draws maps.
//
//   - plan.go draws a compiled map from above and from two sides, as lines, with what is placed in
//     it and the way that a leak takes.
//   - overlay.go lays over that what the long stages found: which cells see how much, where one can walk.
//   - shot.go draws a lit map as a camera sees it (scene.go, skin.go, shade.go, cut.go); tiles.go
//     draws a tile map from above.
package render
