package cause

import (
	"fernrelay/core/run"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// made is a kind of failure with one cause: n of them are made, each with other values in
// the place of what varies from one to the next.
type made struct {
	cause   string // those with the same are together
	n       int
	outcome run.Outcome
	id      string
	file    string
	message string
	output  string
}

// The made failures: what languages and systems write when something goes wrong. In the
// texts {n} is a number, {t} a time, {x} an address, {d} a temporary folder, {w} a word,
// {i} the number of the test, {g} one of three groups.
var madeFailures = []made{
	// A clock that runs ahead: a panic at one place beneath different tests, with stacks of Go.
	{"clock", 6, run.Errored, "unit:{g}#dawn_{i}", "", "panic: clock is ahead of the sun by {n}m", "panic: clock is ahead of the sun by {n}m\n\ngoroutine {n} [running]:\nexample.org/glass/clock.step(...)\n\t/home/ci/glass/clock/clock.go:41 +0x{x}\nexample.org/glass/{g}.Test{i}(0xc{x})\n\t/home/ci/glass/{g}/dawn_test.go:{n} +0x{x}\ntesting.tRunner(0xc{x}, 0x{x})\n\t/usr/local/go/src/testing/testing.go:1792 +0xf4\n"},
	// The same fault of the language in three different places.
	{"nil valve", 4, run.Errored, "unit:drip#holds_{i}", "", "panic: runtime error: invalid memory address or nil pointer dereference", "panic: runtime error: invalid memory address or nil pointer dereference\n[signal SIGSEGV: segmentation violation code=0x{x} addr=0x{x} pc=0x{x}]\ngoroutine {n} [running]:\nexample.org/glass/valves.(*Registry).Open(0x0)\n\t/home/ci/glass/valves/valves.go:88 +0x{x}\nexample.org/glass/drip.TestHolds{i}(0xc{x})\n\t/home/ci/glass/drip/drip_test.go:{n} +0x{x}\n"},
	{"nil sensor", 3, run.Errored, "unit:sensors#reads_{i}", "", "panic: runtime error: invalid memory address or nil pointer dereference", "goroutine {n} [running]:\nexample.org/glass/sensors.(*Probe).Read(0x0)\n\t/home/ci/glass/sensors/probe.go:19 +0x{x}\nexample.org/glass/sensors.TestReads{i}(0xc{x})\n\t/home/ci/glass/sensors/probe_test.go:{n} +0x{x}\n"},
	// Comparisons that say nothing but their values: one cause a line.
	{"wrong 31", 3, run.Failed, "unit:shade#noon/{i}", "shade/shade_test.go:31", "got {n}, want {n}", ""},
	{"wrong 57", 2, run.Failed, "unit:shade#dusk_{i}", "shade/shade_test.go:57", "got {n}, want {n}", ""},
	{"wrong 12", 1, run.Failed, "unit:vents#gale", "vents/vents_test.go:12", "got {n}, want {n}", ""},
	// Comparisons with words, reported through one helper that all tests share.
	{"trays", 4, run.Failed, "py:seedbank#counts_{i}", "", "AssertionError: tray {n} holds {n} seeds instead of {n}", "Traceback (most recent call last):\n  File \"/home/ci/glass/seedbank/test_trays.py\", line {n}, in test_counts_{i}\n    check(tray, {n})\n  File \"/home/ci/glass/helpers/assertions.py\", line 12, in check\n    raise AssertionError(text)\nAssertionError: tray {n} holds {n} seeds instead of {n}\n"},
	{"labels", 3, run.Failed, "py:seedbank#prints_{i}", "", "AssertionError: label of '{w}' lacks the sowing date", "Traceback (most recent call last):\n  File \"/home/ci/glass/seedbank/test_labels.py\", line {n}, in test_prints_{i}\n    check(label, '{w}')\n  File \"/home/ci/glass/helpers/assertions.py\", line 12, in check\n    raise AssertionError(text)\nAssertionError: label of '{w}' lacks the sowing date\n"},
	// A fault of the language deep in own code, beneath a library's, in Python.
	{"ration", 4, run.Errored, "py:irrigation#ration_{i}", "", "KeyError: '{w}'", "Traceback (most recent call last):\n  File \"/home/ci/glass/irrigation/test_ration.py\", line {n}, in test_{i}\n    plan()\n  File \"/home/ci/glass/irrigation/ration.py\", line 77, in share\n    return table[bed]\nKeyError: '{w}'\n"},
	{"climate", 2, run.Errored, "py:climate#table_{i}", "", "KeyError: '{w}'", "Traceback (most recent call last):\n  File \"/home/ci/glass/climate/test_table.py\", line {n}, in test_{i}\n    table()\n  File \"/home/ci/glass/climate/table.py\", line 9, in row\n    return rows[key]\n  File \"/usr/lib/python3/site-packages/rows/index.py\", line 200, in __getitem__\n    raise KeyError(key)\nKeyError: '{w}'\n"},
	// Something that does not answer: said in several languages.
	{"store", 3, run.Failed, "unit:{g}#stores_{i}", "", "dial tcp 127.0.0.1:6379: connect: connection refused", ""},
	{"store", 2, run.Errored, "py:archive#keeps_{i}", "", "ConnectionRefusedError: [Errno 111] Connection refused", "redis.exceptions: Error 111 connecting to 127.0.0.1:6379. Connection refused.\n"},
	{"store", 2, run.Errored, "web:panel#shows_{i}", "", "Error: connect ECONNREFUSED 127.0.0.1:6379", "Error: connect ECONNREFUSED 127.0.0.1:6379\n    at TCPConnectWrap.afterConnect [as oncomplete] (node:net:{n}:16)\n"},
	{"mail", 3, run.Failed, "unit:alarms#mails_{i}", "", "post the alarm: dial tcp 10.0.0.7:25: connect: connection refused", ""},
	{"seed file", 3, run.Failed, "unit:{g}#loads_{i}", "", "open {d}/beds.toml: no such file or directory", ""},
	{"seed file", 2, run.Errored, "py:import#loads_{i}", "", "FileNotFoundError: [Errno 2] No such file or directory: '{d}/beds.toml'", ""},
	{"map file", 2, run.Failed, "unit:rounds#maps_{i}", "", "open {d}/map-{n}.png: no such file or directory", ""},
	{"tool", 3, run.Failed, "unit:{g}#converts_{i}", "", `exec: "soilscan": executable file not found in $PATH`, ""},
	{"port", 2, run.Failed, "unit:panel#listens_{i}", "", "listen tcp 0.0.0.0:8088: bind: address already in use", ""},
	// A sentence of the project's own, raised in places without a stack.
	{"bus", 5, run.Failed, "unit:{g}#talks_{i}", "{g}/bus_test.go:{n}", "boiler bus is held by test {n} since {t}", ""},
	{"units", 3, run.Failed, "unit:{g}#weighs_{i}", "{g}/units_test.go:{n}", "default unit was switched from litres to {w} by an earlier test", ""},
	{"relay", 2, run.Failed, "sh:checks#fuse_{i}", "", "fuse box {x} reports a blown relay on phase {n}", ""},
	// What takes too long, by group, and one that waits in a known place.
	{"slow import", 3, run.TimedOut, "unit:import#reads_{i}", "", "timed out after 5s", ""},
	{"slow rounds", 2, run.TimedOut, "unit:rounds#walks_{i}", "", "timed out after 20s", ""},
	{"lock", 3, run.TimedOut, "unit:{g}#waits_{i}", "", "timed out after 5s", "goroutine {n} [sync.Mutex.Lock]:\nsync.(*Mutex).Lock(0xc{x})\n\t/usr/local/go/src/sync/mutex.go:46 +0x{x}\nexample.org/glass/ledgerbook.(*Book).Sum(0xc{x})\n\t/home/ci/glass/ledgerbook/book.go:133 +0x{x}\nexample.org/glass/{g}.TestWaits{i}(0xc{x})\n\t/home/ci/glass/{g}/waits_test.go:{n} +0x{x}\n"},
	// Processes that are killed.
	{"crash", 3, run.Errored, "cpp:misting#sprays_{i}", "", "the process was killed by signal 11 (segmentation fault)", "#0  0x{x} in nozzle_open (n=0x0) at misting/nozzle.c:52\n#1  0x{x} in spray_all () at misting/spray.c:{n}\n#2  0x{x} in main () at misting/test_main.c:9\n"},
	{"crash drip", 2, run.Errored, "cpp:drip#drips_{i}", "", "the process was killed by signal 11 (segmentation fault)", "#0  0x{x} in drop (n=0x0) at drip/drop.c:17\n#1  0x{x} in main () at drip/test_main.c:9\n"},
	// JavaScript and Java.
	{"gauge", 4, run.Errored, "web:panel#gauge_{i}", "", "TypeError: Cannot read properties of undefined (reading '{w}')", "TypeError: Cannot read properties of undefined (reading '{w}')\n    at Gauge.render (/home/ci/glass/panel/gauge.js:64:{n})\n    at Object.<anonymous> (/home/ci/glass/panel/gauge.test.js:{n}:9)\n    at process.processTicksAndRejections (node:internal/process/task_queues:105:5)\n"},
	{"legend", 2, run.Errored, "web:panel#legend_{i}", "", "TypeError: Cannot read properties of undefined (reading '{w}')", "TypeError: Cannot read properties of undefined (reading '{w}')\n    at drawLegend (/home/ci/glass/panel/legend.js:12:{n})\n    at Object.<anonymous> (/home/ci/glass/panel/legend.test.js:{n}:9)\n"},
	{"growth", 3, run.Errored, "jvm:growth#curve_{i}", "", "java.lang.IllegalStateException: growth table is not sorted at row {n}", "java.lang.IllegalStateException: growth table is not sorted at row {n}\n\tat org.glass.growth.Table.find(Table.java:58)\n\tat org.glass.growth.CurveTest.curve{i}(CurveTest.java:{n})\n\tat java.base/java.lang.reflect.Method.invoke(Method.java:580)\n"},
	// One place that reports different mistakes.
	{"config fan", 3, run.Errored, "py:config#fan_{i}", "", "ConfigError: fan curve of zone {n} needs two points", "Traceback (most recent call last):\n  File \"/home/ci/glass/config/test_fan.py\", line {n}, in test_{i}\n    read()\n  File \"/home/ci/glass/config/read.py\", line 30, in read\n    raise ConfigError(text)\nConfigError: fan curve of zone {n} needs two points\n"},
	{"config glass", 3, run.Errored, "py:config#glass_{i}", "", "ConfigError: glazing thickness '{w}' is no length", "Traceback (most recent call last):\n  File \"/home/ci/glass/config/test_glass.py\", line {n}, in test_{i}\n    read()\n  File \"/home/ci/glass/config/read.py\", line 30, in read\n    raise ConfigError(text)\nConfigError: glazing thickness '{w}' is no length\n"},
	// Written after the first rules were.
	{"overflow", 3, run.Errored, "rs:flow#adds_{i}", "", "thread 'flow::adds_{i}' panicked at src/flow.rs:41:{n}:", "thread 'flow::adds_{i}' panicked at src/flow.rs:41:{n}:\nattempt to subtract with overflow\nstack backtrace:\n   0: rust_begin_unwind\n             at /rustc/{x}/library/std/src/panicking.rs:645:5\n   3: flow::level\n             at ./src/flow.rs:41:9\n   4: flow::tests::adds_{i}\n             at ./tests/flow.rs:{n}:5\n"},
	{"gate", 3, run.Errored, "net:gates#closes_{i}", "", "System.InvalidOperationException : gate {n} is neither open nor shut", "System.InvalidOperationException : gate {n} is neither open nor shut\n   at Glass.Gates.Gate.Close() in /home/ci/glass/Gates/Gate.cs:line 88\n   at Glass.Gates.GateTests.Closes{i}() in /home/ci/glass/Gates/GateTests.cs:line {n}\n"},
	{"even", 2, run.Failed, "unit:rows#even_{i}", "rows/rows_test.go:20", "Place:\t/home/ci/glass/rows/rows_test.go:20\nFound:\tother values:\n\tshould be: {n}\n\tis: {n}\nTest:\tTestEven{i}", ""},
	{"odd", 3, run.Failed, "unit:rows#odd_{i}", "rows/rows_test.go:44", "Place:\t/home/ci/glass/rows/rows_test.go:44\nFound:\tother values:\n\tshould be: {n}\n\tis: {n}\nTest:\tTestOdd{i}", ""},
	{"relation", 4, run.Errored, "py:store#reads_{i}", "", "psycopg.errors.UndefinedTable: relation \"beds_{w}\" does not exist", "Traceback (most recent call last):\n  File \"/home/ci/glass/store/test_store.py\", line {n}, in test_reads_{i}\n    rows = read('{w}')\n  File \"/home/ci/glass/store/store.py\", line 55, in read\n    cursor.execute(query)\n  File \"/usr/lib/python3/dist-packages/psycopg/cursor.py\", line 732, in execute\n    raise error\npsycopg.errors.UndefinedTable: relation \"beds_{w}\" does not exist\nLINE 1: SELECT * FROM beds_{w}\n"},
	{"server", 3, run.Failed, "web:api#get_{i}", "", "GET http://127.0.0.1:4{n}/beds/{n}: 500 Internal Server Error", ""},
	{"route", 2, run.Failed, "web:api#alarm_{i}", "", "GET http://127.0.0.1:4{n}/alarms/{n}: 404 Not Found", ""},
	{"plain assert", 2, run.Failed, "py:vents#angle_{i}", "vents/test_vents.py:14", "assert {n} == {n}", ""},
	{"other assert", 2, run.Failed, "py:vents#speed_{i}", "vents/test_vents.py:29", "assert {n} == {n}", ""},
	{"killed", 2, run.Errored, "sh:load#heap_{i}", "", "signal: killed", "terminate called after throwing an instance of 'std::bad_alloc'\n  what():  std::bad_alloc\n"},
	// Chains of errors, signals, places in further forms, and output that says more than the message.
	{"deadline seeds", 4, run.Failed, "unit:{g}#sows_{i}", "{g}/sow_test.go:{n}", "sow bed {n}: query seeds: context deadline exceeded", ""},
	{"deadline weather", 3, run.Failed, "unit:{g}#fetches_{i}", "{g}/weather_test.go:{n}", "fetch the weather of {t}: context deadline exceeded", ""},
	{"locked", 3, run.Errored, "py:beds#reads_{i}", "", "sqlite3.OperationalError: database is locked", "Traceback (most recent call last):\n  File \"/home/ci/glass/beds/test_read.py\", line {n}, in test_{i}\n    read()\n  File \"/home/ci/glass/beds/store.py\", line 80, in read\n    db.execute(query)\nsqlite3.OperationalError: database is locked\n"},
	{"locked", 2, run.Errored, "py:beds#writes_{i}", "", "sqlite3.OperationalError: database is locked", "Traceback (most recent call last):\n  File \"/home/ci/glass/beds/test_write.py\", line {n}, in test_{i}\n    write()\n  File \"/home/ci/glass/beds/store.py\", line 95, in write\n    db.execute(query)\nsqlite3.OperationalError: database is locked\n"},
	{"null bed", 3, run.Errored, "jvm:water#sprinkles_{i}", "", "java.lang.NullPointerException: Cannot invoke \"org.glass.Bed.moisture()\" because \"bed\" is null", "java.lang.NullPointerException: Cannot invoke \"org.glass.Bed.moisture()\" because \"bed\" is null\n\tat org.glass.water.Sprinkler.wet(Sprinkler.java:31)\n\tat org.glass.water.SprinklerTest.sprinkles{i}(SprinklerTest.java:{n})\n\tat java.base/java.lang.reflect.Method.invoke(Method.java:580)\n"},
	{"null row", 2, run.Errored, "jvm:water#rows_{i}", "", "java.lang.NullPointerException: Cannot invoke \"org.glass.Row.length()\" because \"row\" is null", "java.lang.NullPointerException: Cannot invoke \"org.glass.Row.length()\" because \"row\" is null\n\tat org.glass.water.Rows.total(Rows.java:12)\n\tat org.glass.water.RowsTest.rows{i}(RowsTest.java:{n})\n"},
	{"pump", 4, run.Errored, "jvm:steps#pump_{i}", "", "org.glass.StepException: step {n} failed", "org.glass.StepException: step {n} failed\n\tat org.glass.steps.StepRunner.run(StepRunner.java:40)\n\tat org.glass.steps.PumpTest.pump{i}(PumpTest.java:{n})\nCaused by: java.lang.IllegalStateException: pump {n} has no power\n\tat org.glass.steps.Pump.start(Pump.java:77)\n\tat org.glass.steps.StepRunner.run(StepRunner.java:38)\n\t... 71 more\n"},
	{"stuck", 4, run.Errored, "jvm:steps#valve_{i}", "", "org.glass.StepException: step {n} failed", "org.glass.StepException: step {n} failed\n\tat org.glass.steps.StepRunner.run(StepRunner.java:40)\n\tat org.glass.steps.ValveTest.valve{i}(ValveTest.java:{n})\nCaused by: org.glass.Stuck: valve {n} does not move\n\tat org.glass.steps.Valve.turn(Valve.java:19)\n\tat org.glass.steps.StepRunner.run(StepRunner.java:38)\n\t... 71 more\n"},
	{"plan key", 3, run.Errored, "py:plan#plans_{i}", "", "plan.PlanError: the plan of week {n} cannot be made", "Traceback (most recent call last):\n  File \"/home/ci/glass/plan/week.py\", line 41, in make\n    bed = beds[key]\nKeyError: '{w}'\n\nThe above exception was the direct cause of the following exception:\n\nTraceback (most recent call last):\n  File \"/home/ci/glass/plan/test_plan.py\", line {n}, in test_{i}\n    make(week)\n  File \"/home/ci/glass/plan/week.py\", line 60, in make_all\n    raise PlanError(week) from error\nplan.PlanError: the plan of week {n} cannot be made\n"},
	{"plan date", 3, run.Errored, "py:plan#dates_{i}", "", "plan.PlanError: the plan of week {n} cannot be made", "Traceback (most recent call last):\n  File \"/home/ci/glass/plan/dates.py\", line 8, in parse\n    return date(y, m, d)\nValueError: day is out of range for month\n\nThe above exception was the direct cause of the following exception:\n\nTraceback (most recent call last):\n  File \"/home/ci/glass/plan/test_dates.py\", line {n}, in test_{i}\n    make(week)\n  File \"/home/ci/glass/plan/week.py\", line 60, in make_all\n    raise PlanError(week) from error\nplan.PlanError: the plan of week {n} cannot be made\n"},
	{"strict", 1, run.Failed, "web:gauge#reads_b", "gauge/read.test.js:30", "Expected values to be strictly equal: {n} !== {n}", "AssertionError [ERR_ASSERTION]: Expected values to be strictly equal:\n\n{n} !== {n}\n\n    at TestContext.<anonymous> (/home/ci/glass/gauge/read.test.js:30:10)\n"},
	{"service", 3, run.Failed, "web:{g}#gets_{i}", "", "GET http://localhost:8080/api/beds/{n}: 503 Service Unavailable", ""},
	{"service", 2, run.Failed, "web:{g}#posts_{i}", "", "POST http://localhost:8080/api/rows: 503 Service Unavailable", ""},
	{"tank", 3, run.Errored, "cpp:tank#fills_{i}", "", "the process was killed by signal 6 (aborted)", "fill_test: tank/tank.c:44: fill: Assertion `level >= 0' failed.\n"},
	{"pipe", 2, run.Errored, "cpp:pipe#flows_{i}", "", "the process was killed by signal 6 (aborted)", "flow_test: pipe/pipe.c:90: flow: Assertion `open' failed.\n"},
	{"race", 3, run.Failed, "unit:{g}#counts_{i}", "", "race detected during execution of test", "==================\nWARNING: DATA RACE\nWrite at 0x00c{x} by goroutine {n}:\n  example.org/glass/meter.(*Meter).Add()\n      /home/ci/glass/meter/meter.go:27 +0x{x}\n  example.org/glass/{g}.TestCounts{i}.func1()\n      /home/ci/glass/{g}/counts_test.go:{n} +0x{x}\n"},
	{"race log", 2, run.Failed, "unit:{g}#logs_{i}", "", "race detected during execution of test", "==================\nWARNING: DATA RACE\nRead at 0x00c{x} by goroutine {n}:\n  example.org/glass/journal.(*Log).Write()\n      /home/ci/glass/journal/log.go:66 +0x{x}\n  example.org/glass/{g}.TestLogs{i}.func1()\n      /home/ci/glass/{g}/logs_test.go:{n} +0x{x}\n"},
	{"closed bell", 3, run.Errored, "unit:{g}#sends_{i}", "", "panic: send on closed channel", "panic: send on closed channel\n\ngoroutine {n} [running]:\nexample.org/glass/alarm.(*Bell).Ring(0xc{x})\n\t/home/ci/glass/alarm/bell.go:15 +0x{x}\nexample.org/glass/{g}.TestSends{i}(0xc{x})\n\t/home/ci/glass/{g}/sends_test.go:{n} +0x{x}\n"},
	{"closed queue", 3, run.Errored, "unit:{g}#queues_{i}", "", "panic: send on closed channel", "panic: send on closed channel\n\ngoroutine {n} [running]:\nexample.org/glass/queue.(*Queue).Put(0xc{x})\n\t/home/ci/glass/queue/queue.go:52 +0x{x}\nexample.org/glass/{g}.TestQueues{i}(0xc{x})\n\t/home/ci/glass/{g}/queues_test.go:{n} +0x{x}\n"},
	{"glassctl", 3, run.Failed, "sh:checks#ctl_{i}", "", "exit status 127", "./ctl_{i}: line {n}: glassctl: command not found\n"},
	{"beds.db", 2, run.Failed, "unit:{g}#opens_{i}", "", "open /var/lib/glass/beds.db: permission denied", ""},
	{"beds.db", 2, run.Errored, "py:beds#opens_{i}", "", "PermissionError: [Errno 13] Permission denied: '/var/lib/glass/beds.db'", ""},
	{"handles", 4, run.Failed, "unit:{g}#many_{i}", "", "open {d}/bed{n}.toml: too many open files", ""},
	{"certificate", 3, run.Failed, "unit:{g}#secure_{i}", "", "Get \"https://10.0.0.{n}:8443/beds\": tls: failed to verify certificate: x509: certificate has expired or is not yet valid: current time {t} is after {t}", ""},
	{"column", 3, run.Errored, "rb:store#rows_{i}", "", "column beds.colour does not exist", "store/row.rb:31:in `load': column beds.colour does not exist (StoreError)\n\tfrom store/row_test.rb:{n}:in `test_{i}'\n"},
	{"problems", 2, run.Failed, "sh:checks#lint_{i}", "", "exit status 2", "lint: {n} problems in beds\n"},
	{"member draw", 2, run.Errored, "php:panel#draws_{i}", "", "Error: Call to a member function draw() on null", "Error: Call to a member function draw() on null\n\n/home/ci/glass/panel/Panel.php:55\n/home/ci/glass/panel/tests/PanelTest.php:{n}\n"},
	{"member move", 2, run.Errored, "php:panel#moves_{i}", "", "Error: Call to a member function move() on null", "Error: Call to a member function move() on null\n\n/home/ci/glass/panel/Mover.php:12\n/home/ci/glass/panel/tests/MoverTest.php:{n}\n"},
	// A second set that was written after the rules.
	{"lamp", 3, run.Errored, "unit:{g}#lights_{i}", "", "panic: interface conversion: any is string, not int", "panic: interface conversion: any is string, not int\n\ngoroutine {n} [running]:\nexample.org/glass/lamps.Level(...)\n\t/home/ci/glass/lamps/level.go:18 +0x{x}\nexample.org/glass/{g}.TestLights{i}(0xc{x})\n\t/home/ci/glass/{g}/lights_test.go:{n} +0x{x}\n"},
	{"sun", 3, run.Errored, "unit:{g}#suns_{i}", "", "panic: interface conversion: any is nil, not float64", "panic: interface conversion: any is nil, not float64\n\ngoroutine {n} [running]:\nexample.org/glass/sun.Height(...)\n\t/home/ci/glass/sun/height.go:60 +0x{x}\nexample.org/glass/{g}.TestSuns{i}(0xc{x})\n\t/home/ci/glass/{g}/suns_test.go:{n} +0x{x}\n"},
	{"licence", 4, run.Failed, "unit:{g}#models_{i}", "{g}/model_test.go:{n}", "start the model: licence server says no seat is free", ""},
	{"clock skew", 3, run.Failed, "unit:{g}#orders_{i}", "{g}/order_test.go:{n}", "event {n} came {n}ms before its cause", ""},
	{"harvest", 2, run.Failed, "unit:{g}#harvests_{i}", "{g}/harvest_test.go:{n}", "harvest of {w}: {n} kg, at least {n} kg are expected", ""},
	{"sensor map", 3, run.Errored, "py:map#finds_{i}", "", "AttributeError: 'NoneType' object has no attribute 'row'", "Traceback (most recent call last):\n  File \"/home/ci/glass/map/test_find.py\", line {n}, in test_{i}\n    find('{w}')\n  File \"/home/ci/glass/map/find.py\", line 22, in find\n    return place(name).row\nAttributeError: 'NoneType' object has no attribute 'row'\n"},
	{"sensor list", 3, run.Errored, "py:map#lists_{i}", "", "AttributeError: 'NoneType' object has no attribute 'row'", "Traceback (most recent call last):\n  File \"/home/ci/glass/map/test_list.py\", line {n}, in test_{i}\n    rows()\n  File \"/home/ci/glass/map/list.py\", line 9, in rows\n    return [bed.row for bed in beds]\nAttributeError: 'NoneType' object has no attribute 'row'\n"},
	{"fixture", 4, run.Errored, "py:house#wakes_{i}", "", "RuntimeError: the test house did not wake within {n} s", "Traceback (most recent call last):\n  File \"/home/ci/glass/conftest.py\", line 30, in house\n    return wake()\n  File \"/home/ci/glass/house/wake.py\", line 12, in wake\n    raise RuntimeError(text)\nRuntimeError: the test house did not wake within {n} s\n"},
	{"render", 3, run.Errored, "web:panel#renders_{i}", "", "ReferenceError: palette is not defined", "ReferenceError: palette is not defined\n    at colour (/home/ci/glass/panel/colour.js:7:{n})\n    at async Promise.all (index {n})\n    at Object.<anonymous> (/home/ci/glass/panel/render.test.js:{n}:9)\n"},
	{"snapshot a", 1, run.Failed, "web:panel#looks_a", "panel/look.test.js:5", "the picture differs from looks/a.png in {n} pixels", ""},
	{"quota", 3, run.Failed, "unit:{g}#uploads_{i}", "", "PUT https://store.example/beds/{n}: 429 Too Many Requests", ""},
	{"pool", 3, run.Errored, "jvm:store#pools_{i}", "", "java.sql.SQLTransientConnectionException: pool-{n} - Connection is not available, request timed out after {n}ms.", "java.sql.SQLTransientConnectionException: pool-{n} - Connection is not available, request timed out after {n}ms.\n\tat com.pool.Pool.take(Pool.java:{n})\n\tat org.glass.store.Store.open(Store.java:21)\n\tat org.glass.store.StoreTest.pools{i}(StoreTest.java:{n})\n"},
	{"assume", 2, run.Errored, "rs:beds#takes_{i}", "", "thread 'beds::takes_{i}' panicked at src/beds.rs:77:{n}:", "thread 'beds::takes_{i}' panicked at src/beds.rs:77:{n}:\ncalled `Option::unwrap()` on a `None` value\nnote: run with backtrace\n"},
	{"assume other", 2, run.Errored, "rs:rows#takes_{i}", "", "thread 'rows::takes_{i}' panicked at src/rows.rs:12:{n}:", "thread 'rows::takes_{i}' panicked at src/rows.rs:12:{n}:\ncalled `Option::unwrap()` on a `None` value\nnote: run with backtrace\n"},
	{"killed", 3, run.Errored, "sh:load#sizes_{i}", "", "its process reported no outcome for it; the process ended while it ran: signal 9, killed", ""},
	{"broken pipe", 2, run.Failed, "unit:{g}#streams_{i}", "", "write tcp 127.0.0.1:{n}->127.0.0.1:{n}: write: broken pipe", ""},
	{"timezone", 3, run.Failed, "unit:{g}#zones_{i}", "{g}/zone_test.go:{n}", "unknown time zone Europe/{w}", ""},
	{"lint", 2, run.Failed, "sh:checks#format_{i}", "", "exit status 1", "checking beds/{w}.toml\nindent is 3 spaces, 4 are expected\n"},
	{"docs", 2, run.Failed, "sh:checks#links_{i}", "", "exit status 1", "checking docs/{w}.md\nlink to nowhere: {w}.md\n"},
	{"version", 2, run.Failed, "sh:checks#tool_{i}", "", "exit status 1", "soilscan is version 2.{n}, at least 3 is needed\n"},
	{"sure a", 1, run.Failed, "unit:vents#turns", "vents/turn_test.go:8", "should be true", ""},
	{"sure b", 1, run.Failed, "unit:vents#stops", "vents/turn_test.go:19", "should be true", ""},
	{"slow drip", 2, run.TimedOut, "unit:drip#soaks_{i}", "", "took longer than 30s", ""},
	{"slow vents", 2, run.TimedOut, "unit:vents#airs_{i}", "", "took longer than 30s", ""},
	// Alone.
	{"one", 1, run.Failed, "unit:rounds#night_cycle", "rounds/rounds_test.go:8", "the night cycle skipped bed {n}", ""},
	{"two", 1, run.Failed, "unit:misting#fog_night", "misting/fog_test.go:70", "fog density must fall until sunrise, it rose at {t}", ""},
	{"three", 1, run.Errored, "sh:checks#permissions", "", "./permissions: exit status 3", ""},
	{"four", 1, run.Errored, "sh:checks#sizes", "", "./sizes: exit status 3", ""},
}

// makeFailures makes the failures with random values, in random order, with the cause of each.
func makeFailures(random *rand.Rand) (bad []*run.Result, causes []string) {
	words := []string{"fern", "moss", "orchid", "cactus", "lily", "palm"}
	for _, m := range madeFailures {
		for i := range m.n {
			fill := func(text, group string) string {
				for strings.Contains(text, "{") {
					at := strings.IndexByte(text, '{')
					value := "{"
					switch text[at : at+3] {
					case "{n}":
						value = fmt.Sprint(1 + random.IntN(900))
					case "{t}":
						value = fmt.Sprintf("2026-11-%02dT%02d:%02d:%02dZ", 1+random.IntN(28), random.IntN(24), random.IntN(60), random.IntN(60))
					case "{x}":
						value = fmt.Sprintf("%x", 0x10000+random.IntN(1<<40))
					case "{d}":
						value = fmt.Sprintf("/tmp/Test%d/%03d", random.IntN(1<<30), random.IntN(5))
					case "{w}":
						value = words[random.IntN(len(words))]
					case "{i}":
						value = fmt.Sprint(i)
					case "{g}":
						value = group
					}
					text = text[:at] + value + text[at+3:]
				}
				return text
			}
			group := []string{"drip", "alarms", "vents"}[i%3]
			r := &run.Result{ID: fill(m.id, group), Outcome: m.outcome, Failure: run.Failure{Message: fill(m.message, group)}, Output: []byte(fill(m.output, group))}
			if file, line, ok := strings.Cut(fill(m.file, group), ":"); ok {
				r.File = file
				_, _ = fmt.Sscan(line, &r.Line)
			}
			bad, causes = append(bad, r), append(causes, m.cause)
		}
	}
	random.Shuffle(len(bad), func(i, j int) {
		bad[i], bad[j] = bad[j], bad[i]
		causes[i], causes[j] = causes[j], causes[i]
	})
	return bad, causes
}

// TestCauses holds that of all pairs of made failures, 95 of 100 of those that belong
// together are found to, and that 95 of 100 of all pairs are judged rightly.
func TestCauses(t *testing.T) {
	for seed := range uint64(5) {
		bad, truth := makeFailures(rand.New(rand.NewPCG(seed, 1)))
		causes := Group(bad, OwnIn("/home/ci/glass"))
		of := map[*run.Result]int{}
		for i, c := range causes {
			for _, r := range c.Results {
				of[r] = i
			}
		}
		if len(of) != len(bad) {
			t.Fatalf("%d of %d failures have a cause", len(of), len(bad))
		}
		var right, all, joined, together float64
		for i := range bad {
			for j := range i {
				same, reported := truth[i] == truth[j], of[bad[i]] == of[bad[j]]
				all++
				if same == reported {
					right++
				} else {
					t.Logf("%v is reported of %s (%s) and %s (%s)", reported, bad[i].ID, truth[i], bad[j].ID, truth[j])
				}
				if same {
					together++
					if reported {
						joined++
					}
				}
			}
		}
		t.Logf("%.2f %% of %.0f pairs right, %.1f %% of %.0f that belong together", 100*right/all, all, 100*joined/together, together)
		if right < 0.95*all || joined < 0.95*together {
			t.Errorf("seed %d: %.2f %% of pairs right, %.1f %% of those together", seed, 100*right/all, 100*joined/together)
		}
	}
}

// TestCauseSaysWhere holds what is reported of a cause, and that its sign is the same in a
// run with other values and lines.
func TestCauseSaysWhere(t *testing.T) {
	var signs [2][]string
	for seed := range signs {
		bad, truth := makeFailures(rand.New(rand.NewPCG(uint64(seed), 2)))
		for _, c := range Group(bad, OwnIn("/home/ci/glass")) {
			switch at := truth[slices.Index(bad, c.Results[0])]; {
			case at == "clock":
				want := Frame{"clock/clock.go", 41, "example.org/glass/clock.step"}
				if c.Origin != want || len(c.Results) != 6 || !strings.HasPrefix(c.Words, "panic: clock is ahead of the sun by ") {
					t.Errorf("the clock's cause is %+v", c)
				}
			case at == "store" && (c.Lacks == nil || *c.Lacks != Resource{"answer", "127.0.0.1:6379"}):
				t.Errorf("the store's cause lacks %+v", c.Lacks)
			}
			if words := truth[slices.Index(bad, c.Results[0])]; words != "units" && words != "harvest" && words != "docs" { // of which one differs
				signs[seed] = append(signs[seed], c.Signs...)
			}
		}
		slices.Sort(signs[seed])
	}
	if !slices.Equal(signs[0], signs[1]) {
		t.Errorf("the signs differ: %q\nand %q", signs[0], signs[1])
	}
}

// BenchmarkCauses groups 20,000 failures with much output, as where everything fails.
func BenchmarkCauses(b *testing.B) {
	var bad []*run.Result
	output := []byte(strings.Repeat("pump started: 12 litres at house/pump.go:12 of 33\n", 200))
	for i := range 20_000 {
		bad = append(bad, &run.Result{ID: fmt.Sprintf("unit:beds%d#wet_%d", i%200, i), Outcome: run.Failed, Failure: run.Failure{Message: fmt.Sprintf("bed %d is dry: %d litres in the tank", i, i%7)}, Output: output})
	}
	for b.Loop() {
		Group(bad, OwnIn("/home/ci/glass"))
	}
}

// FuzzCauses holds that no text makes failures without a cause, or with two.
func FuzzCauses(f *testing.F) {
	for _, m := range madeFailures {
		f.Add(m.message, m.output)
	}
	f.Fuzz(func(t *testing.T, message, output string) {
		bad := []*run.Result{{ID: "a:b#c", Outcome: run.Failed, Failure: run.Failure{Message: message}, Output: []byte(output)}, {ID: "a:b#d", Outcome: run.TimedOut, Failure: run.Failure{Message: output}, Output: []byte(message)}}
		n := 0
		for _, c := range Group(bad, OwnIn("/home/ci/glass")) {
			n += len(c.Results)
		}
		if n != 2 {
			t.Errorf("%d of 2 failures have a cause", n)
		}
	})
}

// TestRunnersAreNoCause groups unrelated failures whose stacks share the program that runs the tests, as in suites of scripts: each is a
// cause of its own. What they share beneath the tests is one cause still.
func TestRunnersAreNoCause(t *testing.T) {
	python := func(frames ...string) string {
		text := "Traceback (most recent call last):\n"
		for _, f := range frames {
			text += "  " + f + "\n    x\n"
		}
		return text + "AssertionError"
	}
	const module, call = `File "/p/runner.py", line 20, in <module>`, `File "/p/runner.py", line 12, in call`
	for name, c := range map[string]struct {
		output func(i int) string
		causes int
	}{
		"the program alone":         {func(int) string { return python(module) }, 8},
		"two frames of the program": {func(int) string { return python(module, call) }, 8},
		"a test each": {func(i int) string {
			return python(module, call, fmt.Sprintf(`File "/p/beds.py", line %d, in case_%d`, i, i))
		}, 8},
		"a test each, elsewhere": {func(i int) string {
			return python(module, `File "/p/lib/running.py", line 3, in run`, fmt.Sprintf(`File "/p/b/%d.py", line 1, in body`, i))
		}, 8},
		"some go deeper": {func(i int) string {
			if i%2 == 0 {
				return python(module, call)
			}
			return python(module, call, fmt.Sprintf(`File "/p/beds.py", line %d, in fill`, i))
		}, 8},
		"javascript": {func(i int) string {
			return fmt.Sprintf("Error\n    at case_%d (/p/beds.js:%d:3)\n    at Object.<anonymous> (/p/run.js:9:1)", i, i)
		}, 8},
		"no stack": {func(int) string { return "" }, 8},
		"one origin beneath them": {func(i int) string {
			return python(module, call, fmt.Sprintf(`File "/p/beds.py", line %d, in case_%d`, i, i), `File "/p/clock.py", line 4, in step`)
		}, 1},
		"one origin, and no test": {func(i int) string { return python(module, call, `File "/p/clock.py", line 4, in step`) }, 1},
	} {
		var bad []*run.Result
		for i := range 8 {
			bad = append(bad, &run.Result{ID: fmt.Sprintf("py:beds#case_%d", i), Outcome: run.Failed, Failure: run.Failure{Message: "AssertionError"}, Output: []byte(c.output(i))})
		}
		if causes := Group(bad, OwnIn("/p")); len(causes) != c.causes {
			t.Errorf("%s: %d causes, want %d: %+v", name, len(causes), c.causes, causes[0])
		}
		alone := Signs(bad[:1], OwnIn("/p"))[bad[0].ID]
		if together := Signs(bad, OwnIn("/p"))[bad[0].ID]; alone != together && name != "some go deeper" {
			t.Errorf("%s: the sign is %q alone, and %q among others", name, alone, together)
		}
	}
	for message, same := range map[string]bool{"ValueError": false, "errors.TimeoutError:": false, "Error: pump 3 leaks into house 4": true} {
		bad := []*run.Result{{ID: "js:a#x", Outcome: run.Errored, Failure: run.Failure{Message: message}}, {ID: "js:b#y", Outcome: run.Errored, Failure: run.Failure{Message: message}}}
		if causes := Group(bad, OwnIn("/p")); (len(causes) == 1) != same {
			t.Errorf("%q of two tests makes %d causes", message, len(causes))
		}
	}
}
