// Package shots plans pictures: which of those that the game's profile asks for a project has, from
// which camera or image each is made, and how. It draws nothing; package render does, and package
// assembly runs it.
//
// Without any recipe a picture is taken from the map's camera of the same name, else from its
// cameras in their order; of a tile map without cameras it is the whole level. What is asked for
// and can't be made is a finding, before anything is built.
package shots
