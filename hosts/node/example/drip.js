// Tests of the drip lines.
'use strict'

const assert = require('assert')
const fern = require('../fernhost')
const valves = require('./valves')

fern.test('opens_one', { tags: 'quick' }, () => {
  valves.closeAll()
  fern.equal('open valves', valves.open(3), 1)
  valves.closeAll()
})

// It leaves its valve open, which others may trip over.
fern.test('soaks_the_ferns', { tags: 'quick valve' }, () => {
  fern.equal('open valves', valves.open(7), valves.opened.length)
})

fern.test('counts_from_nothing', { tags: 'valve' }, () => {
  fern.equal('open valves', valves.open(1), 1)
  valves.closeAll()
})

fern.test('pumps_twice', { 'expect-fail': 'the second pump is away' }, () => {
  assert.strictEqual(1, 2)
})

fern.test('waters_every_bed', {}, async () => {
  for (const bed of ['mosses', 'orchids']) await fern.step(bed, () => fern.true('it is wet', bed))
  console.log('all beds are wet')
})

fern.test('needs_frost', {}, () => fern.skip('it is summer'))

fern.test('reads_a_gauge', {}, () => undefined.gauge)
