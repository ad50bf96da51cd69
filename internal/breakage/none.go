//go:build !breakage

// Package breakage is empty in the program that ships: see breakage.go, which tests build in.
package breakage
