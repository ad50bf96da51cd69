// Package radiance holds a map as light meets it: its triangles in trees that rays can be sent at,
// the colours of its materials, and the light that lies on it, so that one can ask what a ray sees
// and how much of a lamp's light comes through. The lighting and reflection stages and the pictures
// of a map all ask here.
//
// Light is measured so that 1 is what a white surface sends that is as bright as white on a screen;
// what lies on a surface is what a white surface there would send: the irradiance by pi (Lambert's
// law).
package radiance
