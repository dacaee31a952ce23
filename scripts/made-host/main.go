// Made-host is a test host with a number of tests that take a time each, or that take none and report four events each:
//
//	made-host 100000 0s
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"strconv"
	"time"
)

func main() {
	tests, _ := strconv.Atoi(os.Args[1])
	pause, _ := time.ParseDuration(os.Args[2])
	out := bufio.NewWriterSize(os.Stdout, 1<<16)
	lines := bufio.NewScanner(os.Stdin)
	lines.Buffer(nil, 64<<20)
	for lines.Scan() {
		var m struct {
			ID     int
			Method string
			Params struct {
				Tests []struct{ Group, Name string }
			}
		}
		_ = json.Unmarshal(lines.Bytes(), &m)
		result := "{}"
		switch m.Method {
		case "hello":
			result = `{"protocol":"fern-host/1","name":"made up"}`
		case "discover":
			all := []byte(`{"tests":[`)
			for i := range tests {
				all = fmt.Appendf(all, `{"group":"g%d","name":"t%d"},`, i/100, i)
			}
			all[len(all)-1] = ']'
			result = string(append(all, '}'))
		case "run":
			for _, t := range m.Params.Tests {
				note := func(method, more string) {
					fmt.Fprintf(out, `{"jsonrpc":"2.0","method":%q,"params":{"group":%q,"name":%q%s}}`+"\n", method, t.Group, t.Name, more)
				}
				began := time.Now()
				note("started", "")
				if pause > 0 {
					out.Flush()
					for time.Since(began) < pause { // more exact than to sleep
					}
				} else {
					note("step", `,"step":"one","outcome":"passed"`)
					note("output", `,"text":"said\n"`)
				}
				note("finished", fmt.Sprintf(`,"outcome":"passed","seconds":%f`, time.Since(began).Seconds()))
			}
		}
		fmt.Fprintf(out, `{"jsonrpc":"2.0","id":%d,"result":%s}`+"\n", m.ID, result)
		out.Flush()
		if m.Method == "bye" {
			return
		}
	}
}
