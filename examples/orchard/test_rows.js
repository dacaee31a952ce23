'use strict'
const assert = require('assert')
const rows = require('./rows')

exports.testNames = () => assert.deepEqual(rows.names(), ['north', 'south'])
exports.testApple = () => assert(rows.plan.north.includes('apple'))
exports.testPlantsACherry = () => { // leaves it in the plan
  rows.plan.north.push('cherry')
  assert(rows.plan.north.includes('cherry'))
}
exports.testPlums = () => assert.deepEqual(rows.plan.south, ['plum'])
exports.testCountsTrees = () => assert.equal(rows.trees(), 3)
exports.testWords = () => assert(rows.plan.south.every((t) => /^[a-z]+$/.test(t)))
exports.testLast = () => { // leaves a method on every list
  Array.prototype.last = function () { return this[this.length - 1] }
  assert.equal([1, 2].last(), 2)
}
exports.testRowsAreLists = () => assert(Object.values(rows.plan).every(Array.isArray))
exports.testNoRowIsEmpty = () => assert(Object.values(rows.plan).every((r) => r.length > 0))
exports.testLetters = () => assert.equal(rows.letters('south'), 'p')
exports.testPear = () => assert(rows.plan.north.includes('pear'))
exports.testTwoRows = () => assert.equal(rows.names().length, 2)
exports.testSorted = () => assert.equal(rows.names()[0], 'north')
