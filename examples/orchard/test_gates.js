'use strict'
const assert = require('assert')
const gates = require('./gates')

exports.testNorthIsClosed = () => assert.equal(gates.open.get('north'), false)
exports.testFrozenClock = () => { // leaves a clock that does not go
  Date.now = () => 1
  assert.equal(gates.openedAt(), 1)
}
exports.testOneGate = () => assert.equal(gates.open.size, 1)
exports.testClockGoes = () => assert(gates.openedAt() > 1e12)
exports.testBell = () => { // leaves somebody who listens
  gates.bell.on('ring', (heard) => heard.push('dog'))
  assert.deepEqual(gates.ring(), ['dog'])
}
exports.testGateIsKnown = () => assert(gates.open.has('north'))
exports.testNobodyListens = () => assert.deepEqual(gates.ring(), [])
exports.testFrench = () => { // leaves the language
  process.env.ORCHARD_LANGUAGE = 'fr'
  assert.equal(gates.language(), 'fr')
}
exports.testNoSouthGate = () => assert(!gates.open.has('south'))
exports.testEnglish = () => assert.equal(gates.language(), 'en')
exports.testGateNames = () => assert.deepEqual([...gates.open.keys()], ['north'])
exports.testLanguageIsShort = () => assert.equal(gates.language().length, 2)
exports.testWaits = async () => assert.equal(await Promise.resolve(4), 4)
exports.testClosedGates = () => assert.equal([...gates.open.values()].filter(Boolean).length, 0)
