// Package texture turns images into textures and reads them back. Make is the whole way for one
// texture, from image files and a recipe to a Texture with what was done and lost; Read, Decode and
// Compile are its parts.
//
// decode.go reads images within bounds (tga.go and radiance.go the forms that have no library
// here), light.go holds light in half floats, content.go and choose.go look at pixels and pick a
// format, filter.go, coverage.go and normal.go make levels, ktx2.go (Khronos KTX 2.0) and dds.go
// are the file forms, sheet.go draws a texture for people. Package bcn packs blocks.
//
// All arithmetic on texels is in whole numbers, so that the same image gives the same bytes on every processor.
package texture
