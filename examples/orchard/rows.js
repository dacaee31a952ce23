// The rows of the orchard and what grows in them.
'use strict'

exports.plan = { north: ['apple', 'pear'], south: ['plum'] }
exports.trees = () => Object.values(exports.plan).reduce((sum, row) => sum + row.length, 0)
exports.names = () => Object.keys(exports.plan).sort()
exports.letters = (row) => {
  const letters = []
  for (const i in exports.plan[row]) letters.push(String(exports.plan[row][i])[0])
  return letters.join('')
}
