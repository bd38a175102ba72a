const assert = require("node:assert");
const tides = require("tide-chart");

assert.equal(tides.line([{ time: "05:12", kind: "high" }]), "05:12 high water");
console.log("1 test passed");
