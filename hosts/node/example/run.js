// Serves the example's tests.
'use strict'

const fern = require('../fernhost')
fern.watch('valves', require('./valves'))
require('./drip')

fern.serve('garden in JavaScript')
