// What the harvest weighs.
'use strict'

class Settings {
  constructor() {
    this.unit = 'kg'
    this.most = 40
  }
}

class Scale {
  weigh(amount) {
    return Math.min(amount, exports.settings.most)
  }

  label(amount) {
    return `${this.weigh(amount)} ${exports.settings.unit}`
  }
}

exports.settings = new Settings()
exports.Scale = Scale
exports.weightOf = (fruit) => ({ apple: 0.2, pear: 0.25, plum: 0.05 })[fruit]
exports.total = (...fruits) => fruits.reduce((sum, f) => sum + exports.weightOf(f), 0)
