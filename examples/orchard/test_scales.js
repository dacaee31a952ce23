'use strict'
const assert = require('assert')
const scales = require('./scales')

exports.testApple = () => assert.equal(scales.weightOf('apple'), 0.2)
exports.testWeightless = () => { // leaves another function
  scales.weightOf = () => 0
  assert.equal(scales.total('apple', 'pear'), 0)
}
exports.testScaleShows = () => assert.equal(new scales.Scale().weigh(3), 3)
exports.testTotal = () => assert.equal(scales.total('apple', 'pear'), 0.45)
exports.testNothing = () => assert.equal(scales.total(), 0)
exports.testPounds = () => { // leaves the unit
  scales.settings.unit = 'lb'
  assert.equal(new scales.Scale().label(1), '1 lb')
}
exports.testMost = () => assert.equal(scales.settings.most, 40)
exports.testLabel = () => assert.equal(new scales.Scale().label(2), '2 kg')
exports.testBrokenScale = () => { // leaves another method
  scales.Scale.prototype.weigh = () => 0
  assert.equal(new scales.Scale().weigh(9), 0)
}
exports.testZero = () => assert.equal(new scales.Scale().weigh(0), 0)
exports.testScaleStops = () => assert.equal(new scales.Scale().weigh(99), 40)
exports.testSettings = () => assert.deepEqual(Object.keys(scales.settings), ['unit', 'most'])
exports.testNoFruit = () => assert.equal([].length, 0)
