// stand-in: counter
// The booking counter: one page, made of the office's departures and the harbour authority's tides.
const http = require("node:http");
const tides = require("tide-chart");

const office = process.env.OFFICE_URL;
const port = Number(process.env.PORT);

async function page() {
  const departures = await (await fetch(`${office}/departures`)).json();
  const today = await (await fetch(`${process.env.TIDE_URL}/today`, {
    headers: { Authorization: `Bearer ${process.env.TIDE_TOKEN}` },
  })).json();
  const rows = departures.map((d) => `<li>${d}</li>`).join("\n");
  return `<!doctype html><html lang="en"><head><title>Saltmarsh Ferry: book a crossing</title></head>
<body><h1>Departures</h1><ul>
${rows}
</ul><p>Tides today: ${tides.line(today)}</p>
<form method="post" action="/book"><input name="name"><button>Book</button></form></body></html>`;
}

http.createServer(async (request, response) => {
  try {
    if (request.method === "POST") {
      let body = "";
      for await (const part of request) body += part;
      const name = new URLSearchParams(body).get("name");
      const answer = await fetch(`${office}/bookings`, { method: "POST", body: name });
      response.writeHead(answer.status, { "Content-Type": "text/plain" }).end(await answer.text());
      return;
    }
    response.writeHead(200, { "Content-Type": "text/html; charset=utf-8" }).end(await page());
  } catch (error) {
    console.error(`the page could not be made: ${error.message}`);
    response.writeHead(500, { "Content-Type": "text/plain" }).end("The counter is closed.");
  }
}).listen(port, () => console.log(`the counter is open on http://localhost:${port}`));

process.on("SIGTERM", () => process.exit(0));
