// Package imaging makes finished pictures of shots and images: cut to a ratio, resized, blurred,
// tinted, darkened, framed, lettered, and written as PNG or as baseline JPEG of at most so many
// bytes.
//
//   - imaging.go is what is done to a picture, in one order; canvas.go the picture while it is done.
//   - text.go letters it.
//   - write.go writes files, and looks at ready ones.
//
// Light is mixed linearly where it is light (resizing, blurring, darkening) and in sRGB where
// painters mean numbers (multiply and overlay, as in the W3C's "Compositing and Blending").
package imaging
