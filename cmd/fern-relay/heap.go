package main

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"sync/atomic"
)

// collectLate lets the heap grow to 32 MB before it is collected for the first time, as most commands end before that.
// From then on it is collected each time that it has grown by 15 %, or by leastGrowth if that is more: what is held of a
// large suite is held for long, and a smaller heap is worth its price.
func collectLate() {
	debug.SetGCPercent(800) // of 4 MB, from which the runtime starts
	afterCollection(limitGrowth)
}

// leastGrowth is in bytes.
var leastGrowth atomic.Int64

// collectRarely lets the heap grow by 20 MB or more. It is called once a project is open: finding its tests takes the most
// memory, and what comes then holds little more, makes much garbage, and lets keys wait for collections.
func collectRarely() { leastGrowth.Store(20 << 20) }

// limitGrowth sets at what size the heap is collected next, now and after each collection.
func limitGrowth() {
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(live)
	percent := 15
	if held := live[0].Value.Uint64(); held > 0 {
		percent = max(percent, int(100*leastGrowth.Load()/int64(held)))
	}
	debug.SetGCPercent(percent)
	afterCollection(limitGrowth)
}

// afterCollection calls a function after the next collection.
func afterCollection(call func()) {
	runtime.AddCleanup(new([64]byte), func(int) { call() }, 0)
}
