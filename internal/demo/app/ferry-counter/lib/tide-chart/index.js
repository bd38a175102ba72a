// Draws a day's tides as one line of text.
exports.line = (tides) => tides.map((t) => `${t.time} ${t.kind} water`).join(", ");
