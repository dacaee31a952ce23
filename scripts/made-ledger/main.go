// Made-ledger adds made-up runs of the tests whose IDs it reads from standard input, a line each, to a ledger:
//
//	fern-relay list --json | jq -r .id | go run ./scripts/made-ledger FOLDER/.fern 1000
package main

import (
	"bufio"
	"fmt"
	"os"
	"strconv"

	"fernrelay/internal/ledger"
	"fernrelay/internal/ledger/ledgertest"
)

func main() {
	if err := fill(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func fill(args []string) error {
	if len(args) != 2 {
		return fmt.Errorf("usage: made-ledger STORE RUNS")
	}
	runs, err := strconv.Atoi(args[1])
	if err != nil {
		return err
	}
	var ids []string
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		ids = append(ids, lines.Text())
	}
	if err := lines.Err(); err != nil {
		return err
	}
	l, err := ledger.Open(args[0])
	if err != nil {
		return err
	}
	defer l.Close()
	return ledgertest.Fill(l, ids, runs)
}
