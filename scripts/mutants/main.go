// Command mutants puts small faults into the code, one at a time, and tells which
// of them the tests notice. All faults are built into the test programs at once,
// asleep; the environment wakes one. So the code is compiled once, and a fault costs
// only the tests that pass through it.
//
//	scripts/mutate [FLAGS] [COUNT [SEED]]
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"runtime"
	"slices"
	"strings"
	"time"
)

func main() {
	if len(os.Args) > 1 && os.Args[1] == insideWord {
		os.Exit(inside(os.Args[2:]))
	}
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "mutate:", err)
		os.Exit(1)
	}
}

func run() error {
	in := flag.String("in", "./internal/core/...,./internal/host/...,./internal/app/...", "`packages` that faults are put into, by commas")
	at := flag.String("at", "", "only faults whose `place` (file:line kind code) contains one of these, by commas")
	budget := flag.Duration("budget", time.Minute, "how long the tests of other packages are tried on one fault")
	inner := flag.Bool("inner", false, "leave the tests from the outside out")
	limit := flag.Duration("limit", time.Hour, "how long all of it may take; what was not tried by then is said")
	workers := flag.Int("workers", runtime.NumCPU()+1, "how many faults are tried at the same time")
	list := flag.Bool("list", false, "print the faults that could be put in, and try none")
	flag.Usage = func() {
		fmt.Fprintln(flag.CommandLine.Output(), "usage: scripts/mutate [FLAGS] [COUNT [SEED]]   (300 faults, and a seed of the day's)")
		flag.PrintDefaults()
	}
	flag.Parse()
	count, seed := 300, uint64(time.Now().Unix()/86400)
	for i, to := range []func(string) error{
		func(s string) error { _, err := fmt.Sscan(s, &count); return err },
		func(s string) error { _, err := fmt.Sscan(s, &seed); return err },
	} {
		if arg := flag.Arg(i); arg != "" {
			if err := to(arg); err != nil {
				return fmt.Errorf("%q is no number", arg)
			}
		}
	}

	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	work, err := workFolder()
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	faults, sources, err := findFaults(strings.Split(*in, ","))
	if err != nil {
		return err
	}
	total := len(faults)
	known, err := harmless()
	if err != nil {
		return err
	}
	faults = known.without(faults)
	if *in == flag.Lookup("in").DefValue {
		for _, unused := range known.unused() {
			fmt.Printf("harmless.txt names what is not there any more: %s\n", unused)
		}
	}
	chosen := choose(faults, *at, count, seed)
	if *list {
		for _, f := range chosen {
			fmt.Println(f)
		}
		return nil
	}
	if len(chosen) == 0 {
		return errors.New("there is nothing to try")
	}
	fmt.Printf("%d of %d possible faults, seed %d\n", len(chosen), len(faults), seed)
	b, err := build(ctx, work, sources)
	if err != nil {
		return err
	}
	b.total = total
	if *inner {
		b.tests = slices.DeleteFunc(b.tests, func(s *test) bool { return s.pkg == outside })
	}
	ctx, cancel := context.WithTimeout(ctx, *limit)
	defer cancel()
	if err := b.learn(ctx, *workers); err != nil {
		return err
	}
	b.try(ctx, chosen, *workers, *budget)
	report(chosen)
	return nil
}
