// What a test puts in and takes out, beside the service: PUT /all says which sets there are,
// {name: {fields: {field: type}, unique: [field], rows: [row]}}, and makes the service anew;
// GET /all gives {name: [row]}.
const http = require("http");

exports.serve = (make) => {
  let sets = {};
  let service;
  const listener = http.createServer((req, res) => {
    if (req.url !== "/all") return service.handle(req, res);
    if (req.method === "PUT") {
      let text = "";
      req.setEncoding("utf8");
      req.on("data", (piece) => { text += piece; });
      req.on("end", () => {
        sets = JSON.parse(text);
        service = make(sets, `http://127.0.0.1:${listener.address().port}`);
        res.end();
      });
      return;
    }
    Promise.all(Object.keys(sets).map(async (name) => [name, await service.rows(name)]))
      .then((all) => res.end(JSON.stringify(Object.fromEntries(all))));
  });
  listener.listen(0, "127.0.0.1", () => console.log(listener.address().port));
};
