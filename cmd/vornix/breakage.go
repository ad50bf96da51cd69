//go:build breakage

package main

import "vornix/internal/breakage"

func init() { atEnd = breakage.End }
