// A test host for Fern Relay: tests in JavaScript, run in any order in one process.
//
// Copy this file beside your tests; it needs Node.js 18 and nothing else.
//
//     const fern = require('./fernhost')
//
//     fern.test('opens_at_dawn', { tags: 'quick', needs: ['fills_the_pond'] }, async () => {
//       fern.equal('litres', await valves.open(3), 5)
//     })
//
//     fern.serve('garden')
//
// The group of a test is the name of its file. A test passes unless it throws: a
// failed check and an AssertionError are failures, anything else is an error. What it
// prints becomes its output. A generator or a body that takes an argument is an error, as
// it would not run. The program speaks the protocol fern-host/1, and sends its messages
// where no test can.
'use strict'

const fs = require('fs')
const path = require('path')
const readline = require('readline')
const util = require('util')

const PROTOCOL = 'fern-host/1'
const LONGEST = 2000 // characters of a value that are reported

const tests = new Map() // by group and name, as declared
const watched = new Map() // objects whose properties are reported, by name
const resets = [] // what makes the state fresh again
const kept = new Map() // key of kind and name: what puts it back to what it was when the state was asked for last

/** Thrown by a test that finds that it cannot run here. */
class Skip extends Error {}

/** A check that failed, with both sides where it compared. */
class Failed extends Error {
  constructor(message, expected, actual) {
    super(message)
    this.expected = expected
    this.actual = actual
  }
}

let report = null // sends what happens in the test that runs; null while none runs
let wanted = [] // the only steps of it that run; all if empty
let inside = false // of one of them

/** Fails unless the two are deeply equal. */
function equal(what, actual, expected) {
  if (!util.isDeepStrictEqual(actual, expected)) {
    throw new Failed(`${what}: got ${show(actual)}, want ${show(expected)}`, show(expected), show(actual))
  }
}

/** Fails unless the condition holds. */
function isTrue(what, condition) {
  if (!condition) throw new Failed(what)
}

/** Ends the test as skipped. */
function skip(reason) {
  throw new Skip(reason)
}

/** Runs a part of the test that is reported by its own name. */
async function step(name, body) {
  if (!report) throw new Error(`the step ${name} is not in a test that runs`)
  if (wanted.length > 0 && !inside && !wanted.includes(name)) return
  const outside = !inside
  inside = true
  const send = report
  const began = process.hrtime.bigint()
  let result = { outcome: 'passed' }
  try {
    refuse(await body())
  } catch (error) {
    result = error instanceof Skip ? { outcome: 'skipped' } : { outcome: 'failed', message: String(error?.message ?? error) }
    throw error
  } finally {
    inside = !outside
    send('step', { step: name, seconds: since(began), ...result })
  }
}

const show = (value) => util.inspect(value, { depth: 6, breakLength: Infinity }).slice(0, LONGEST)
const since = (began) => Number(process.hrtime.bigint() - began) / 1e9
const key = (group, name) => JSON.stringify([group, name])

/**
 * Declares a test. Options are tags in one string, a group, and rules: skip, lone,
 * 'expect-fail' and 'only-if' take a text; needs, after and holds a list of names.
 */
function test(name, options, body) {
  const { tags = '', group, ...rules } = options
  const { file, line } = caller()
  const made = {
    name, body, rules, line,
    group: group || path.basename(file).replace(/\.\w+$/, ''),
    file: path.relative(process.cwd(), file).split(path.sep).join('/'),
    source: file,
    tags: [...new Set(tags.split(/\s+/).filter(Boolean))].sort(),
  }
  if (tests.has(key(made.group, name))) throw new Error(`the group ${made.group} has two tests named ${name}`)
  tests.set(key(made.group, name), made)
}

/** Reports the properties of an object, so that a hunt can see what a test left. */
function watch(name, object) {
  watched.set(name, object)
}

/** Declares what makes the state as fresh as in a new process. Without any, a new process is begun instead. */
function onReset(body) {
  resets.push(body)
}

/** The place in a stack that is outside of this file. */
function caller() {
  for (const line of new Error().stack.split('\n').slice(1)) {
    const at = place(line)
    if (at && at.file !== __filename) return at
  }
  return { file: process.argv[1], line: 1 }
}

function place(line) {
  const found = /\(?((?:file:\/\/)?\/[^()]*|[A-Za-z]:\\[^()]*):(\d+):\d+\)?$/.exec(line)
  return found && { file: found[1].replace(/^file:\/\//, ''), line: Number(found[2]) }
}

/** Answers requests until bye, or until the input ends. */
async function serve(name) {
  const { writeSync } = fs
  const { stringify } = JSON
  let out = 1
  let secret = ''
  const send = (message) => {
    let data = Buffer.from(secret + stringify({ jsonrpc: '2.0', ...message }) + '\n')
    while (data.length > 0) {
      try {
        data = data.subarray(writeSync(out, data))
      } catch (error) {
        if (error.code !== 'EAGAIN') throw error
      }
    }
  }
  for await (const line of readline.createInterface({ input: process.stdin, crlfDelay: Infinity })) {
    const { id, method, params = {} } = JSON.parse(line)
    try {
      send({ id, result: await answer(name, method, params, send) })
    } catch (error) {
      send({ id, error: { code: 1, message: String(error.message || error) } })
    }
    if (method === 'hello' && params.channel) {
      out = params.channel.descriptor
      secret = params.channel.secret + ' '
    }
    if (method === 'bye') break
  }
  process.exit(0)
}

async function answer(name, method, params, send) {
  switch (method) {
    case 'hello':
      return { protocol: PROTOCOL, name, channel: Boolean(params.channel) }
    case 'discover':
      return { tests: [...tests.values()].map(({ group, name, file, line, tags, rules }) => ({ group, name, file, line, tags, rules })) }
    case 'run':
      for (const asked of params.tests) await run(asked, send)
      return {}
    case 'state':
      return { values: state() }
    case 'restore':
      restore(params.kind, params.name)
      return {}
    case 'reset':
      if (resets.length === 0) throw new Error('nothing says how to make the state fresh: a new process is needed')
      for (const body of resets) await body()
      return {}
    case 'bye':
      return {}
  }
  throw new Error(`there is no method ${JSON.stringify(method)}`)
}

async function run({ group, name, steps = [] }, send) {
  const tell = (method, more) => send({ method, params: { group, name, ...more } })
  const asked = tests.get(key(group, name))
  if (!asked) throw new Error(`there is no test ${name} of group ${group}`)
  tell('started', {})
  const write = process.stdout.write
  process.stdout.write = (text, encoding, done = encoding) => {
    tell('output', { text: typeof text === 'string' ? text : Buffer.from(text).toString() })
    if (typeof done === 'function') process.nextTick(done)
    return true
  }
  const began = process.hrtime.bigint()
  let result = { outcome: 'passed' }
  try {
    report = tell
    wanted = steps
    inside = false
    if (asked.body.length > 0) throw new Error('it takes an argument, which nobody passes: return a promise instead of calling back')
    refuse(await asked.body())
  } catch (error) {
    result = verdict(error, asked)
  } finally {
    report = null
    process.stdout.write = write
  }
  tell('finished', { seconds: since(began), ...result })
}

/** Throws if a body returned something that has not run yet. */
function refuse(returned) {
  if (returned && typeof returned.next === 'function' && (returned[Symbol.iterator] || returned[Symbol.asyncIterator])) {
    throw new Error('it is a generator, and its body did not run: remove yield')
  }
}

function verdict(error, asked) {
  if (error instanceof Skip) return { outcome: 'skipped', message: error.message }
  const lines = String((error && error.stack) || '').split('\n').map(place)
  const at = lines.find((l) => l && l.file === asked.source) || asked
  const where = { file: asked.file, line: at.line }
  if (error instanceof Failed) return { outcome: 'failed', message: error.message, expected: error.expected, actual: error.actual, ...where }
  if (error && error.code === 'ERR_ASSERTION') {
    return { outcome: 'failed', message: error.message, expected: show(error.expected), actual: show(error.actual), ...where }
  }
  return { outcome: 'errored', message: String(error), ...where }
}

/** What tests could leave behind: watched objects, the environment and the working folder. It is kept as well. */
function state() {
  const values = []
  kept.clear()
  for (const [name, object] of watched) {
    for (const property of Object.keys(object).sort()) {
      if (typeof object[property] === 'function') continue
      values.push({ kind: 'variable', name: `${name}.${property}`, value: show(object[property]) })
      try {
        const value = structuredClone(object[property])
        kept.set(key('variable', `${name}.${property}`), () => { object[property] = value })
      } catch {
        // then it cannot be put back
      }
    }
  }
  for (const name of Object.keys(process.env).sort()) {
    const value = process.env[name]
    values.push({ kind: 'environment', name, value })
    kept.set(key('environment', name), () => { process.env[name] = value })
  }
  const folder = process.cwd()
  values.push({ kind: 'folder', name: 'working folder', value: folder })
  kept.set(key('folder', 'working folder'), () => process.chdir(folder))
  return values
}

/** Puts one piece of state back to what it was when the state was asked for last. */
function restore(kind, name) {
  const back = kept.get(key(kind, name)) || (kind === 'environment' && (() => delete process.env[name]))
  if (!back) throw new Error(`the ${kind} ${name} cannot be put back`)
  back()
}

module.exports = { test, equal, true: isTrue, skip, step, watch, onReset, serve, Skip, Failed }
