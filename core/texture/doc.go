// Package texture turns images into textures and reads them back: PNG and JPEG in, KTX2 (Khronos KTX 2.0) and DDS out,
// with mip levels filtered in linear light, as 8-bit RGBA or BC1 blocks.
//
// decode.go reads images within bounds, mip.go filters, bc1.go packs blocks, ktx2.go and dds.go are the file forms.
// All arithmetic on texels is in whole numbers, so that the same image gives the same bytes on every processor.
package texture
