// The valves of a garden, of which there is one set for all.
'use strict'

module.exports = {
  opened: [],
  open(number) {
    return this.opened.push(number)
  },
  closeAll() {
    this.opened.length = 0
  },
}
