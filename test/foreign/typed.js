// A service with batches in JSON and navigation, whose options are what its application makes
// of them: odata-v4-server, without TypeScript.
const express = require("express");
const { ODataServer, ODataController, Edm, odata } = require("odata-v4-server");
const { createFilter } = require("odata-v4-inmemory");
const { serve } = require("./sets");

const method = (controller, decorate, name, ...parameters) => {
  parameters.forEach((parameter, at) => parameter(controller.prototype, name, at));
  decorate(controller.prototype, name, Object.getOwnPropertyDescriptor(controller.prototype, name));
};

// The ids are numbers that the application gives.
serve((sets) => {
  const held = {};
  let last = 2000;
  class Service extends ODataServer {}
  odata.namespace("lab")(Service);
  for (const [name, set] of Object.entries(sets)) {
    const blank = {};
    const Type = { [name + "_type"]: class {} }[name + "_type"];
    Edm.Key(Type.prototype, "id");
    Edm.Computed(Type.prototype, "id");
    for (const [field, type] of Object.entries(set.fields)) {
      (Edm[type.replace("Edm.", "")] || Edm.String)(Type.prototype, field);
      // It has no decorator for values of any form, and passes them on as they are.
      if (type === "Edm.Untyped") Reflect.defineMetadata("edm:type", type, Type.prototype, field);
      if (field !== "id") blank[field] = null;
    }
    held[name] = set.rows;
    const taken = (row) => (set.unique || []).some((field) => held[name].some((other) => other !== row && other[field] === row[field]));
    const Set = { [name]: class extends ODataController {
      find(query) {
        const rows = held[name];
        return query && query.value && query.value.options ? rows.filter(createFilter(query)) : rows;
      }
      findOne(key) { return held[name].find((row) => row.id === Number(key)); }
      insert(body) {
        const row = Object.assign({}, blank, body, { id: (last += 3) });
        if (taken(row)) throw new Error("There is such a record already.");
        held[name].push(row);
        return row;
      }
      update(key, body) { Object.assign(held[name].find((row) => row.id === Number(key)), body); }
      remove(key) { held[name] = held[name].filter((row) => row.id !== Number(key)); }
    } }[name];
    method(Set, odata.GET, "find", odata.filter);
    method(Set, odata.GET, "findOne", odata.key);
    method(Set, odata.POST, "insert", odata.body);
    method(Set, odata.PATCH, "update", odata.key, odata.body);
    method(Set, odata.DELETE, "remove", odata.key);
    odata.type(Type)(Set);
    odata.controller(Set, name, Type)(Service);
  }
  const app = express();
  app.use("/", Service.create());
  return { handle: app, rows: async (name) => held[name] };
});
