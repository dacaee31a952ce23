// Serves the plain tests of this folder to Fern Relay. A project of its own has fernhost.js beside this file.
require('../../hosts/node/fernhost').serve('orchard', 'test_*.js')
