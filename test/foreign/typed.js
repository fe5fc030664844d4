// A service with batches in JSON and navigation, whose options are what its application makes
// of them: odata-v4-server, without TypeScript.
const http = require("http");
const express = require("express");
const { ODataServer, ODataController, Edm, odata } = require("odata-v4-server");
const { createFilter } = require("odata-v4-inmemory");

class Item {}
Edm.Key(Item.prototype, "id");
Edm.Computed(Item.prototype, "id");
Edm.Int32(Item.prototype, "id");
for (const name of ["code", "name"]) Edm.String(Item.prototype, name);
Edm.Decimal(Item.prototype, "amount");
Edm.Boolean(Item.prototype, "active");
for (const name of ["level", "next"]) Edm.Int32(Item.prototype, name);

let rows = [];
let last = 100;

class Items extends ODataController {
  find(query) {
    return query && query.value && query.value.options ? rows.filter(createFilter(query)) : rows;
  }
  findOne(key) { return rows.find((row) => row.id === Number(key)); }
  insert(body) {
    const row = Object.assign({ name: null, amount: null, active: null, level: null, next: null }, body, { id: (last += 3) });
    rows.push(row);
    return row;
  }
  update(key, body) { Object.assign(rows.find((row) => row.id === Number(key)), body); }
  remove(key) { rows = rows.filter((row) => row.id !== Number(key)); }
}
const method = (decorate, name, ...parameters) => {
  parameters.forEach((parameter, at) => parameter(Items.prototype, name, at));
  decorate(Items.prototype, name, Object.getOwnPropertyDescriptor(Items.prototype, name));
};
method(odata.GET, "find", odata.filter);
method(odata.GET, "findOne", odata.key);
method(odata.POST, "insert", odata.body);
method(odata.PATCH, "update", odata.key, odata.body);
method(odata.DELETE, "remove", odata.key);
odata.type(Item)(Items);

class Service extends ODataServer {}
odata.namespace("lab")(Service);
odata.controller(Items, "items", Item)(Service);

const app = express();
app.get("/all", (req, res) => res.json(rows)); // for the test, not of the service
app.use("/", Service.create());
const listener = http.createServer(app);
listener.listen(0, "127.0.0.1", () => console.log(listener.address().port));
