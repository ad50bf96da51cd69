package main

import (
	"context"
	"fmt"
	"os"
	"runtime/pprof"
	"time"

	"vornix/core/build"
	"vornix/core/compile/stage"
	"vornix/core/project"
	"vornix/demo"
)

func main() {
	f, _ := os.Create("/tmp/cpu.prof")
	p, err := project.Load(os.Args[1], demo.Profiles())
	if err != nil {
		panic(err)
	}
	pprof.StartCPUProfile(f)
	t := time.Now()
	one, err := build.CompileOne(context.Background(), p, os.Args[1], os.Args[2], nil, &stage.Env{Only: os.Args[3:]})
	pprof.StopCPUProfile()
	fmt.Println(time.Since(t), err, one.Compiled.Stats)
}
