// A test host for Fern Relay: tests in JavaScript, run in any order in one process.
//
// Copy this file beside your tests; it needs Node.js 18 and nothing else. Plain tests are
// functions that files export under names that begin with test, and the main program
// names the files:
//
//     require('./fernhost').serve('garden', 'test_*.js', 'checks/*.js')
//
// The group of a test is its file. A test passes unless it throws: a failed check and an
// AssertionError are failures, anything else is an error, also a rejection that nobody
// handles. What it prints becomes its output. A generator or a body that takes an argument
// is an error, as it would not run. A file that cannot be loaded is an error of its group,
// and the others run. A declared test has tags and rules:
//
//     const fern = require('./fernhost')
//
//     fern.test('opens_at_dawn', { tags: 'quick', needs: ['fills_the_pond'] }, async () => {
//       fern.equal('litres', await valves.open(3), 5)
//     })
//
//     exports.testFlow = fern.cases({ dry: [0, 0], wet: [3, 9] }, (litres, want) => { // a step each
//       assert.equal(valves.flow(litres), want)
//     })
//
//     fern.before(() => valves.drain()) // each test of this file; also after, beforeFile, afterFile
//
// The program speaks the protocol fern-host/1, and sends its messages where no test can. For
// a hunt it names what tests leave behind, and restores it piece by piece.
'use strict'

const { AsyncLocalStorage, createHook } = require('async_hooks')
const { EventEmitter } = require('events')
const fs = require('fs')
const Module = require('module')
const path = require('path')
const readline = require('readline')
const util = require('util')

const PROTOCOL = 'fern-host/1'
const CAN = ['state', 'restore', 'reset', 'steps', 'side-by-side', 'imports', 'repair', 'sources']
const LONGEST = 2000 // characters of a value that are reported
const LOOKS = "the exports of the project's modules with their objects, classes and functions, replaced functions of globals and prototypes, listeners, running timers, watched objects, the environment and the working folder"
const home = process.cwd()

const tests = new Map() // by group and name, as declared
const watched = new Map() // objects whose properties are reported, by name
const resets = [] // what makes the state fresh again
const around = new Map() // by file: functions that run before or after its tests or itself
const broken = [] // files that cannot be loaded
const cased = new WeakMap() // the body of a test of cases, by the test
const starts = new AsyncLocalStorage() // the test that began what runs
const beyond = [] // errors of no test
let patterns = [] // of files with tests that are not loaded yet
let openFile = null // the file whose beforeFile ran last
let kept = new Map() // key of kind and name: the state when it was asked for last

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
let runs = null // the test that runs

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

/**
 * Returns a test that runs a body with the arguments of each name, as a step of that name. All run, and the first that
 * fails is the failure of the test.
 */
function cases(named, body) {
  const each = async () => {
    let first = null
    for (const [name, args] of Object.entries(named)) {
      try {
        await step(name, () => body(...(Array.isArray(args) ? args : [args])))
      } catch (error) {
        first = first || error
      }
    }
    if (first) throw first
  }
  cased.set(each, body)
  return each
}

const declareAround = (when) => (body) => {
  const { file } = caller()
  around.set(key(file, when), [...(around.get(key(file, when)) || []), body])
}

const show = (value) => util.inspect(value, { depth: 6, breakLength: Infinity }).slice(0, LONGEST)
const since = (began) => Number(process.hrtime.bigint() - began) / 1e9
const key = (group, name) => JSON.stringify([group, name])

/**
 * Declares a test. Options are tags in one string, a group, the files that it uses, whose
 * change touches it, a timeout in seconds, and rules: skip, lone, 'expect-fail' and
 * 'only-if' take a text; needs, after and holds a list of names.
 */
function test(name, options, body) {
  const { tags = '', group, uses, timeout, ...rules } = options
  const { file, line } = caller()
  declare(name, body, file, line, group || path.basename(file).replace(/\.\w+$/, ''), { tags: [...new Set(tags.split(/\s+/).filter(Boolean))].sort(), rules, uses, timeout })
}

function declare(name, body, source, line, group, more = {}) {
  if (tests.has(key(group, name))) throw new Error(`the group ${group} has two tests named ${name}`)
  tests.set(key(group, name), { name, body, line, group, source, file: below(source), ...more })
}

/** The name of a file as seen from the folder of the suite. */
const below = (file) => path.relative(home, file).split(path.sep).join('/')

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

/** Answers requests until bye, or until the input ends. The files of the patterns are loaded when their tests are asked for. */
async function serve(name, ...files) {
  patterns = files
  for (const event of ['unhandledRejection', 'uncaughtException']) process.on(event, blame)
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
      replaceSources(params.sources || {})
      return { protocol: PROTOCOL, name, channel: Boolean(params.channel), looks: LOOKS, can: CAN }
    case 'discover':
      await load()
      return { tests: [...tests.values()].map(({ body, source, ...test }) => test), broken }
    case 'imports':
      await load()
      return { imports: imports(new Set([...[...tests.values()].map((t) => t.source), ...broken.map((b) => path.join(home, b.file))])) }
    case 'run':
      await load()
      remember()
      for (const asked of params.tests) await run(asked, send)
      await leaveFile()
      await new Promise((done) => setImmediate(done)) // so that what nobody handles is known
      if (beyond.length > 0) throw new Error(beyond.splice(0).join('; '))
      return {}
    case 'state':
      await load()
      remember()
      kept = state()
      return { values: [...kept.values()].map(({ kind, name, text }) => ({ kind, name, value: text.slice(0, LONGEST), ...(text.length > LONGEST && { sum: sum(text) }) })) }
    case 'repair':
      await load()
      remember()
      return { contents: repairs(known(params), params.changed, params.set) }
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

/** The files that a pattern names: * stands for a part of a name, ** for any folders. */
function matching(pattern) {
  const form = pattern.split('/').map((part) => part === '**' ? '(?:[^/]+/)*' : part.replace(/[.+^${}()|[\]\\]/g, '\\$&').replace(/\*/g, '[^/]*').replace(/\?/g, '[^/]') + '/').join('').replace(/\/$/, '')
  const fits = new RegExp(`^${form}$`)
  const found = []
  const look = (folder) => {
    for (const entry of fs.readdirSync(path.join(home, folder), { withFileTypes: true })) {
      const name = folder + entry.name
      if (entry.isDirectory() && !entry.name.startsWith('.') && entry.name !== 'node_modules') look(name + '/')
      else if (fits.test(name)) found.push(name)
    }
  }
  look('')
  return found.sort()
}

/** Loads the files of the patterns once, and declares their plain tests. */
async function load() {
  const files = new Set(patterns.flatMap(matching))
  patterns = []
  const { _load } = Module
  Module._load = function (name, from, ...more) { // notes who loads what meanwhile, also by a name that is computed
    const exported = _load.call(this, name, from, ...more)
    if (from && from.filename) loaded.set(from.filename, (loaded.get(from.filename) || new Set()).add(Module._resolveFilename(name, from)))
    return exported
  }
  const { exit } = process
  process.exit = (code = 0) => { throw new Error(`it calls process.exit(${code})`) } // which is an error of the file
  try {
    await loadFiles(files)
  } finally {
    Module._load = _load
    process.exit = exit
  }
}

async function loadFiles(files) {
  for (const file of files) {
    const source = path.join(home, file)
    const group = file.replace(/\.\w+$/, '')
    try {
      const exported = file.endsWith('.mjs') ? await import(source) : require(source)
      for (const [name, body] of Object.entries(exported)) {
        if (name.startsWith('test') && typeof body === 'function') declare(name, body, source, lineOf(source, name), group)
      }
    } catch (error) {
      const text = String((error && error.stack) || error)
      const at = text.split('\n').map(place).find((l) => l && l.file === source)
      const syntax = new RegExp(`^${escaped(source)}:(\\d+)`, 'm').exec(text)
      broken.push({ group, file, line: at ? at.line : syntax ? Number(syntax[1]) : 1, message: `it cannot be loaded: ${firstLine(error)}` })
    }
  }
}

const loaded = new Map() // by file: those that it loaded

/**
 * Returns which files of the project import which, from some files on, as their source says and as was seen when the tests were loaded: a
 * change touches the tests that import it.
 */
function imports(files) {
  const graph = {}
  const waiting = [...files]
  for (let file; (file = waiting.pop());) {
    if (graph[below(file)]) continue
    let source = ''
    try { source = fs.readFileSync(file, 'utf8') } catch {} // it is deleted
    const names = [...source.matchAll(/\b(?:require|import)\s*\(\s*['"`]([^'"`]+)['"`]|\b(?:from|import)\s*['"]([^'"]+)['"]/g)].map((m) => m[1] || m[2])
    const found = new Set([...[...(loaded.get(file) || [])].filter(isOwn), ...names.flatMap((name) => filesOf(name, file))].filter((other) => other !== file))
    graph[below(file)] = [...found, ...(files.has(file) && require.main ? [require.main.filename] : [])].map(below)
    waiting.push(...found)
  }
  return graph
}

/** The files of the project that a name in a source stands for, also if they are deleted. */
function filesOf(name, from) {
  let file
  try { file = Module.createRequire(from).resolve(name) } catch {
    const whole = path.resolve(path.dirname(from), name)
    return /^[./]/.test(name) ? ['', '.js', '.cjs', '.mjs', '.json', '/index.js'].map((end) => whole + end) : []
  }
  return isOwn(file) ? [file] : []
}

/** Reports whether a file is of the project and not of others. */
const isOwn = (file) => file.startsWith(home + path.sep) && !file.includes(`${path.sep}node_modules${path.sep}`)

const firstLine = (error) => String(error).split('\n')[0]

/** The line on which a file exports a name. */
function lineOf(source, name) {
  const lines = fs.readFileSync(source, 'utf8').split('\n')
  return lines.findIndex((line) => new RegExp(`\\b${name}\\b`).test(line)) + 1
}

/** Gives an error that nobody handles to the test that began its work, or else to the process. */
function blame(error) {
  const of = starts.getStore()
  if (!of) {
    beyond.push(`an error that no test began: ${firstLine(error)}`)
    process.stderr.write(String((error && error.stack) || error) + '\n')
  } else if (of === runs) {
    of.late = of.late || error
  } else {
    of.tell('finished', { seconds: 0, outcome: 'errored', message: `after it had ended: ${firstLine(error)}`, file: of.asked.file, line: of.asked.line })
  }
}

function known({ group, name }) {
  const asked = tests.get(key(group, name))
  if (!asked) throw new Error(`there is no test ${name} of group ${group}`)
  return asked
}

async function run({ group, name, steps = [] }, send) {
  const tell = (method, more) => send({ method, params: { group, name, ...more } })
  const asked = known({ group, name })
  tell('started', {})
  const write = process.stdout.write
  const ours = process.stdout.write = (text, encoding, done = encoding) => {
    tell('output', { text: typeof text === 'string' ? text : Buffer.from(text).toString() })
    if (typeof done === 'function') process.nextTick(done)
    return true
  }
  const began = process.hrtime.bigint()
  const self = { asked, tell, late: null }
  let result = { outcome: 'passed' }
  try {
    runs = self
    report = tell
    wanted = steps
    inside = false
    await starts.run(self, async () => {
      if (asked.body.length > 0) throw new Error('it takes an argument, which nobody passes: return a promise instead of calling back')
      await enterFile(asked.source)
      try {
        await callAround(asked.source, 'before')
        refuse(await asked.body())
      } finally {
        await callAround(asked.source, 'after')
      }
    })
    await new Promise((done) => setImmediate(done)) // so that a rejection that nobody handles is known
    if (self.late) throw self.late
  } catch (error) {
    result = verdict(error, asked)
  } finally {
    report = null
    runs = null
    if (process.stdout.write === ours) process.stdout.write = write
  }
  tell('finished', { seconds: since(began), ...result })
}

async function callAround(file, when) {
  for (const body of around.get(key(file, when)) || []) await body()
}

async function enterFile(file) {
  if (openFile === file) return
  await leaveFile()
  await callAround(file, 'beforeFile')
  openFile = file
}

async function leaveFile() {
  const left = openFile
  openFile = null
  await callAround(left, 'afterFile')
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
  const frames = framesOf(error)
  const where = { file: asked.file, line: at.line, ...(frames.some((f) => f.file !== asked.file) && { frames }) }
  if (error instanceof Failed) return { outcome: 'failed', message: error.message, expected: error.expected, actual: error.actual, ...where }
  if (error && error.code === 'ERR_ASSERTION') {
    const compared = error.expected !== undefined || error.actual !== undefined
    return { outcome: 'failed', message: error.message, ...(compared && { expected: show(error.expected), actual: show(error.actual) }), ...where }
  }
  if (error instanceof Error) return { outcome: 'errored', class: error.name, message: error.message, ...where }
  return { outcome: 'errored', message: String(error), ...where }
}

/** The frames of an error that are in files of the project. */
function framesOf(error) {
  return String((error && error.stack) || '').split('\n').map((line) => ({ at: place(line), function: (/^\s*at (?:async )?([^(]+?) \(/.exec(line) || [])[1] }))
    .filter(({ at }) => at && at.file.startsWith(home + path.sep) && at.file !== __filename)
    .map((frame) => ({ file: below(frame.at.file), line: frame.at.line, function: frame.function }))
}

// What tests leave behind. Each piece has a kind, a name and a text; back makes it what it is now, and remove undoes it if it was not
// there before.

const text = (value) => util.inspect(value, { depth: 8, breakLength: Infinity, sorted: true, maxArrayLength: 1000, maxStringLength: 10000, getters: false })

/** A number that differs for texts that differ. */
const sum = (text) => {
  let n = 0
  for (let i = 0; i < text.length; i++) n = (Math.imul(n, 31) + text.charCodeAt(i)) | 0
  return (n >>> 0).toString(16)
}

const functionText = (value) => `${value.name || 'a function'}: ${String(value).replace(/\s+/g, ' ').slice(0, 200)}`

/** Gives an object the content of its copy. */
function fill(value, saved) {
  if (Array.isArray(value)) value.splice(0, value.length, ...saved)
  else if (value instanceof Map || value instanceof Set) {
    value.clear()
    for (const item of saved) value instanceof Map ? value.set(...item) : value.add(item)
  } else {
    for (const name of Object.keys(value)) if (!(name in saved)) delete value[name]
    Object.assign(value, saved)
  }
  return value
}

/** The piece of state that an owner has under a name. */
function held(kind, name, owner, property) {
  const value = owner[property]
  const remove = () => { delete owner[property] }
  if (typeof value === 'function') return { kind: 'function', name, text: functionText(value), back: () => { owner[property] = value }, remove }
  if (value instanceof EventEmitter) { // its listeners are pieces of their own
    const { _events, _eventsCount, ...rest } = value
    return { kind, name, text: `${value.constructor.name} ${text(rest)}`, back: () => { owner[property] = value }, remove }
  }
  if (value === null || typeof value !== 'object') return { kind, name, text: text(value), back: () => { owner[property] = value }, remove }
  try {
    const saved = structuredClone(value)
    return { kind, name, text: text(value), back: () => { owner[property] = fill(value, saved) }, remove }
  } catch {
    return { kind, name, text: text(value), remove } // it cannot be put back
  }
}

/** The properties of an object, those of its objects with a class of their own, and those of a class and its prototype. */
function * inner(kind, name, object, seen = new Set()) {
  if (seen.has(object)) return
  seen.add(object)
  for (const property of Object.getOwnPropertyNames(object).sort()) {
    if (['constructor', 'length', 'name', 'prototype', 'arguments', 'caller'].includes(property) && typeof object === 'function' || property === 'constructor' || property === '__esModule') continue
    const described = Object.getOwnPropertyDescriptor(object, property)
    if (!described || described.get || described.set) continue
    const value = described.value
    const called = `${name}.${property}`
    if (described.writable) yield held(kind, called, object, property)
    if (value && typeof value === 'object' && ![Object.prototype, Array.prototype, Map.prototype, Set.prototype, Date.prototype, null].includes(Object.getPrototypeOf(value))) {
      if (value instanceof EventEmitter) yield * emitter(called, value)
      else yield * inner('attribute', called, value, seen)
    } else if (typeof value === 'function' && isOurs.get(value)) {
      yield * inner('attribute', called, value, seen)
      if (value.prototype) yield * inner('attribute', `${called}.prototype`, value.prototype, seen)
    }
  }
}

const isOurs = new WeakMap() // classes and functions that the project's modules export

/** The listeners of an emitter, by event. */
function * emitter(name, value) {
  for (const event of value.eventNames()) {
    const listeners = value.rawListeners(event)
    yield { kind: 'listener', name: `${name} ${String(event)}`, text: `${listeners.length}: ${listeners.map((l) => l.name || 'a function').join(', ')}`,
      back: () => { value.removeAllListeners(event); for (const l of listeners) value.on(event, l) }, remove: () => value.removeAllListeners(event) }
  }
}

/** The modules of the project, by the names of their files without the ending. */
function projectModules() {
  return Object.values(require.cache).filter((m) => m && m.filename !== __filename && isOwn(m.filename) && m !== require.main)
    .map((m) => [below(m.filename).replace(/\.\w+$/, ''), m.exports])
}

// Functions of globals and prototypes, before the first test.
const remembered = new Map() // by name: the owner, the property and the function

function remember() {
  if (remembered.size > 0) return
  const all = (name, owner) => {
    for (const property of Object.getOwnPropertyNames(owner)) {
      const described = Object.getOwnPropertyDescriptor(owner, property)
      if (typeof described.value === 'function' && property !== 'constructor') remembered.set(`${name}.${property}`, { owner, property, value: described.value, name })
    }
  }
  for (const property of Object.getOwnPropertyNames(globalThis)) {
    let value
    try { value = globalThis[property] } catch { continue }
    if (typeof value === 'function') {
      remembered.set(property, { owner: globalThis, property, value, name: '' })
      all(property, value)
      if (value.prototype) all(`${property}.prototype`, value.prototype)
    } else if (value && typeof value === 'object' && ['Math', 'JSON', 'Reflect', 'Atomics', 'Intl', 'console', 'process', 'performance', 'crypto'].includes(property)) all(property, value)
  }
  for (const name of ['fs', 'http', 'https', 'child_process', 'os', 'path', 'timers', 'crypto', 'net', 'dns']) all(name, require(name))
  for (const [, exported] of projectModules()) {
    for (const value of [exported, ...Object.values(exported || {})]) if (typeof value === 'function') isOurs.set(value, true)
  }
}

/** Functions of globals, prototypes and built-in modules that are replaced, and names that prototypes have got. */
function * replaced() {
  const owners = new Map()
  for (const [name, { owner, property, value, name: of }] of remembered) {
    if (of.endsWith('.prototype')) owners.set(of, owner)
    const now = owner[property]
    if (now !== value && !(owner === process.stdout && property === 'write')) {
      yield { kind: 'function', name, text: typeof now === 'function' ? functionText(now) : text(now), remove: () => { owner[property] = value } }
    }
  }
  for (const [name, owner] of owners) {
    for (const property of Object.getOwnPropertyNames(owner)) {
      const described = Object.getOwnPropertyDescriptor(owner, property)
      if (typeof described.value === 'function' && described.enumerable && !remembered.has(`${name}.${property}`)) {
        yield { kind: 'function', name: `${name}.${property}`, text: functionText(described.value), remove: () => { delete owner[property] } }
      }
    }
  }
}

const timers = new Map() // by their number: a timer that may be running, and where it began

createHook({
  init(id, type, _, resource) {
    if (type !== 'Timeout' || timers.size >= 1000) return
    const at = (new Error().stack || '').split('\n').slice(1).map(place).find((l) => l && l.file.startsWith(home + path.sep) && l.file !== __filename)
    if (at) timers.set(id, { resource, at: `${below(at.file)}:${at.line}` })
  },
  destroy(id) { timers.delete(id) },
}).enable()

function * running() {
  const places = new Map()
  for (const { resource, at } of timers.values()) {
    if (resource.hasRef && !resource._destroyed) places.set(at, [...(places.get(at) || []), resource])
  }
  for (const [at, all] of places) yield { kind: 'timer', name: `begun at ${at}`, text: `${all.length} running`, remove: () => all.forEach(clearTimeout) }
}

function * everything() {
  for (const [name, exported] of projectModules()) {
    if (exported && (typeof exported === 'object' || typeof exported === 'function')) yield * inner('variable', name, exported)
  }
  for (const [name, object] of watched) {
    for (const property of Object.keys(object).sort()) {
      if (typeof object[property] !== 'function') yield held('variable', `${name}.${property}`, object, property)
    }
  }
  yield * replaced()
  yield * emitter('process', process)
  yield * running()
  for (const name of Object.keys(process.env).sort()) {
    const value = process.env[name]
    yield { kind: 'environment', name, text: value, back: () => { process.env[name] = value }, remove: () => { delete process.env[name] } }
  }
  const folder = process.cwd()
  yield { kind: 'folder', name: 'working folder', text: folder, back: () => process.chdir(folder) }
}

/** What tests could leave behind, each piece once. */
function state() {
  const values = new Map()
  for (const piece of everything()) {
    if (!values.has(key(piece.kind, piece.name))) values.set(key(piece.kind, piece.name), piece)
  }
  return values
}

/** Puts one piece of state back to what it was when the state was asked for last. */
function restore(kind, name) {
  const before = kept.get(key(kind, name))
  const now = before || state().get(key(kind, name))
  const back = before ? before.back : now ? now.remove : () => {} // it is gone already
  if (!back) throw new Error(`the ${kind} ${name} cannot be put back`)
  back()
}

// Repairs: other contents of a test's file, in which the test restores what it leaves. A hunt tries them.

/** Has require find other contents of files, by their paths as seen from the folder of the suite. */
function replaceSources(contents) {
  const byFile = new Map(Object.entries(contents).map(([file, content]) => [path.join(home, file), content]))
  if (byFile.size === 0) return
  const compile = Module.prototype._compile
  Module.prototype._compile = function (content, filename, ...more) {
    return compile.call(this, byFile.has(filename) ? byFile.get(filename) : content, filename, ...more)
  }
}

class Cannot extends Error {}

/** Returns contents of the file in which the test restores each of the pieces of state, or else sets them up for itself, the most natural first. */
function repairs(asked, changed, sets) {
  if (asked.file.endsWith('.mjs')) throw new Cannot(`no other content of ${asked.file} can be tried, as it is an ECMAScript module`)
  if (!require.cache[asked.source] || asked.source === require.main?.filename) throw new Cannot(`no other content of ${asked.file} can be tried, as the main program does not load it`)
  const source = new Source(asked)
  const pieces = changed.map((piece) => {
    try {
      const ways = waysOf(source, piece)
      return sets ? ways.slice(-1).map((way) => setUp(source, way, piece)) : ways
    } catch (error) {
      throw new Cannot(`${piece.kind} ${piece.name}: ${error.message}`)
    }
  })
  const contents = new Set()
  for (let way = 0; way < Math.max(0, ...pieces.map((ways) => ways.length)); way++) {
    contents.add(source.surrounded(pieces.map((ways) => ways[Math.min(way, ways.length - 1)])))
  }
  return [...contents]
}

/** Returns the ways to restore a piece of state, the most natural first: each has lines that save it before the test, and lines that restore it after. */
function waysOf(source, { kind, name, before }) {
  switch (kind) {
    case 'variable':
    case 'attribute':
    case 'function':
      return waysOfHeld(source, name)
    case 'listener': {
      const [, of, event] = /^(.*) (\S+)$/.exec(name)
      const emitter = source.held(of).expression
      const quoted = source.quoted(event)
      const old = source.free('old ' + event)
      if (before === undefined) return [{ save: [], restore: [`${emitter}.removeAllListeners(${quoted})`] }]
      return [{ save: [`const ${old} = ${emitter}.rawListeners(${quoted})`], restore: [`${emitter}.removeAllListeners(${quoted})`, `for (const listener of ${old}) ${emitter}.on(${quoted}, listener)`] }]
    }
    case 'environment': {
      const old = source.free('old ' + name)
      const value = property('process.env', name, source)
      return [{ save: [`const ${old} = ${value}`], restore: [`if (${old} === undefined) delete ${value}`, `else ${value} = ${old}`] }]
    }
    case 'folder': {
      const old = source.free('old folder')
      return [{ save: [`const ${old} = process.cwd()`], restore: [`process.chdir(${old})`] }]
    }
    case 'file': {
      const [module, file, old] = [source.module('fs'), source.quoted(name), source.free('old content')]
      if (before === undefined) return [{ save: [], restore: [`${module}.rmSync(${file}, { recursive: true })`] }]
      return [{ save: [`const ${old} = ${module}.readFileSync(${file})`], restore: [`${module}.writeFileSync(${file}, ${old})`] }]
    }
  }
  throw new Cannot(`a ${kind} is not restored by a patch`)
}

/** The way to restore a piece of state, which first gets the value that others leave. */
function setUp(source, way, { kind, name, after }) {
  if (kind === 'environment' && after !== undefined) return { ...way, begin: [`${property('process.env', name, source)} = ${source.quoted(after)}`] }
  if (!['variable', 'attribute'].includes(kind) || !/^(-?[\d.]+|true|false|null|'[^'\\]*'|"[^"\\]*")$/.test(after)) throw new Cannot('only the environment and simple values are set up by a patch')
  return { ...way, begin: [`${source.held(name).expression} = ${after}`] }
}

/** The ways to restore what an owner holds: by the same object, or by its former content. */
function waysOfHeld(source, name) {
  const { expression, value } = source.held(name)
  if (value === undefined) return [{ save: [], restore: [`delete ${expression}`] }]
  const old = source.free('old ' + /([\w$]*)\W*$/.exec(expression)[1])
  const again = { save: [`const ${old} = ${expression}`], restore: [`${expression} = ${old}`] }
  const refill = value && typeof value === 'object' && refilling(value, expression, old)
  if (!refill) return [again]
  const filled = { save: [`const ${old} = structuredClone(${expression})`], restore: refill }
  const assigns = new RegExp(`${escaped(expression)}\\s*=[^=]`).test(source.function)
  return assigns ? [again, filled] : [filled, again]
}

function refilling(value, expression, old) {
  if (Array.isArray(value)) return [`${expression}.splice(0, ${expression}.length, ...${old})`]
  if (value instanceof Map) return [`${expression}.clear()`, `for (const [key, value] of ${old}) ${expression}.set(key, value)`]
  if (value instanceof Set) return [`${expression}.clear()`, `for (const value of ${old}) ${expression}.add(value)`]
  if (Object.getPrototypeOf(value) !== Object.prototype) return null
  return [`for (const key of Object.keys(${expression})) delete ${expression}[key]`, `Object.assign(${expression}, ${old})`]
}

const escaped = (text) => text.replace(/[.*+?^${}()|[\]\\]/g, '\\$&')
const property = (owner, name, source) => /^[A-Za-z_$][\w$]*$/.test(name) ? `${owner}.${name}` : `${owner}[${source.quoted(name)}]`

/** The source of a test's file, and the function of the test in it. */
class Source {
  constructor(asked) {
    this.file = asked.source
    this.text = fs.readFileSync(asked.source, 'utf8')
    this.function = String(cased.get(asked.body) || asked.body)
    const places = []
    for (let at = this.text.indexOf(this.function); at >= 0; at = this.text.indexOf(this.function, at + 1)) places.push(at)
    const lineAt = (at) => this.text.slice(0, at).split('\n').length
    const near = places.filter((at) => lineAt(at) === asked.line)
    if (places.length === 1) this.at = places[0]
    else if (near.length === 1) this.at = near[0]
    else throw new Cannot(`the source of ${asked.name} cannot be told from that of other functions`)
    this.taken = new Set(this.function.match(/[\w$]+/g))
    const count = (part) => this.text.split(part).length
    this.quote = count('"') > count("'") ? '"' : "'"
    this.end = (count(';\n') - 1) * 4 > count('\n') ? ';' : ''
  }

  quoted(text) {
    const inner = JSON.stringify(text).slice(1, -1)
    return this.quote === '"' ? `"${inner}"` : `'${inner.replace(/\\"/g, '"').replace(/'/g, "\\'")}'`
  }

  /** A name of several words that the test does not use yet. */
  free(words) {
    const [first, ...rest] = words.split(/\W+/)
    let name = first + rest.map((w) => /^[A-Z0-9_]+$/.test(w) ? w.toLowerCase().replace(/(^|_)(\w)/g, (_, __, letter) => letter.toUpperCase()) : w[0].toUpperCase() + w.slice(1)).join('')
    while (this.taken.has(name)) name += '_'
    this.taken.add(name)
    return name
  }

  /** The expression for a module in this file. */
  module(name, wanted = null) {
    for (const [, variable, from] of this.text.matchAll(/\b(?:const|let|var)\s+([\w$]+)\s*=\s*require\(\s*['"`]([^'"`]+)['"`]\s*\)\s*(?:[;\n]|$)/g)) {
      if (from.replace(/^node:/, '') === name || (wanted && this.resolve(from) === wanted)) return variable
    }
    if (!wanted) return `require(${this.quoted(name)})`
    const below = path.relative(path.dirname(this.file), wanted).split(path.sep).join('/').replace(/\.js$/, '')
    return `require(${this.quoted(below.startsWith('.') ? below : './' + below)})`
  }

  resolve(from) {
    try {
      return Module.createRequire(this.file).resolve(from)
    } catch {
      return null
    }
  }

  /** The expression for a piece of state in this file, and its value. */
  held(name) {
    const valueOf = (owner, parts) => parts.reduce((value, part) => value?.[part], owner)
    for (const m of Object.values(require.cache)) {
      if (!m || !m.filename.startsWith(home + path.sep)) continue
      const called = below(m.filename).replace(/\.\w+$/, '')
      if (!name.startsWith(called + '.') || m.filename === __filename) continue
      const rest = name.slice(called.length)
      return { expression: (m.filename === this.file ? 'exports' : this.module(called, m.filename)) + rest, value: valueOf(m.exports, rest.slice(1).split('.')) }
    }
    const [first, ...rest] = name.split('.')
    if (first in globalThis) return { expression: name, value: valueOf(globalThis[first], rest) }
    if (Module.builtinModules.includes(first)) return { expression: [this.module(first), ...rest].join('.'), value: valueOf(require(first), rest) }
    throw new Cannot('no module exports it')
  }

  /** The whole file with lines around the body of the test. */
  surrounded(ways) {
    const head = /^(async\s+)?(?:function\s*[\w$]*\s*\([^(){}]*\)|\([^(){}]*\)\s*(=>)|[\w$]+\s*(=>)|[\w$]+\s*\([^(){}]*\))\s*/.exec(this.function)
    if (!head) throw new Cannot('the function of the test is of a form that no patch changes')
    const outer = /[^\n]*$/.exec(this.text.slice(0, this.at))[0].match(/^\s*/)[0]
    const rest = this.function.slice(head[0].length)
    const isArrow = Boolean(head[2] || head[3])
    let [start, comment, lines] = [head[0].trimEnd(), '', []]
    if (rest.startsWith('{')) {
      const [, first, body] = /^([^\n]*)\n?([^]*)$/.exec(rest.slice(1, -1))
      if (/^\s*(\/\/.*)?$/.test(first)) comment = first.trimEnd()
      const text = comment || !first.trim() ? body : `${rest.slice(1, -1).trim()}`
      lines = text.trimEnd().split('\n')
      if (!head[1] && returns(text)) throw new Cannot('it returns what may be a promise: make it an async function that awaits it')
    } else if (isArrow) { // its value may be a promise, which has to end first
      lines = [`await ${rest.startsWith('{') ? `(${rest})` : rest}${this.end}`]
      if (!head[1]) start = `async ${start}`
    } else throw new Cannot('the function of the test is of a form that no patch changes')
    const inner = /^\s*/.exec(lines.find((line) => line.trim()) || '')[0] || outer + '  '
    const unit = inner.slice(outer.length) || '  '
    const own = lines.some((line) => line.startsWith(inner)) ? '' : inner // what was beside its head has no indentation
    const spans = lines.some((line) => line.split('`').length % 2 === 0) // a text of several lines, which must not change
    const end = (line) => /^(if|for) /.test(line) && line.endsWith('{') ? line : line + this.end
    const changed = [`${start} {${comment}`, ...ways.flatMap((w) => w.save).map((line) => inner + end(line)), `${inner}try {`, ...ways.flatMap((w) => w.begin || []).map((line) => inner + unit + end(line)),
      ...lines.map((line) => line.trim() && !spans ? unit + own + line : line), `${inner}} finally {`, ...[...ways].reverse().flatMap((w) => w.restore).map((line) => inner + unit + end(line)), `${inner}}`, `${outer}}`]
    return this.text.slice(0, this.at) + changed.join('\n') + this.text.slice(this.at + this.function.length)
  }
}

/** Reports whether a body returns something, and not only a function inside it. */
function returns(body) {
  let plain = body.replace(/\/\/[^\n]*|'(?:[^'\\\n]|\\.)*'|"(?:[^"\\\n]|\\.)*"/g, '')
  for (let shorter; (shorter = plain.replace(/\{[^{}]*\}/g, '')) !== plain;) plain = shorter
  return /\breturn\s+[^;\s]/.test(plain)
}

module.exports = {
  test, cases, equal, true: isTrue, skip, step, watch, onReset, serve, Skip, Failed,
  before: declareAround('before'), after: declareAround('after'), beforeFile: declareAround('beforeFile'), afterFile: declareAround('afterFile'),
}
