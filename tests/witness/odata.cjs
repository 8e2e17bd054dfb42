// Two tenants of an OData service on somebody else's server (npm: odata-v4-server), behind tokens that the issuer
// vouches for (RFC 7662). It differs from the demo's stand-in in all it can: keys of Int32, Guid and String, typed
// and closed properties, no ETags, answers without content, for whom a policy counts by $expand and by an action,
// and by references. node odata.cjs PORT ISSUER
const express = require("express");
const bodyParser = require("body-parser");
const { randomUUID } = require("crypto");
const { ODataServer, ODataController, ODataResult, odata, Edm } = require("odata-v4-server");
const { createFilter } = require("odata-v4-inmemory");

const [port, issuer] = process.argv.slice(2);
const base = `http://127.0.0.1:${port}`;

function typed(kind, properties) {
  for (const [name, ...marks] of properties) for (const mark of marks) mark(kind.prototype, name);
  return kind;
}
const named = (name) => ({ [name]: class {} })[name];

const Spot = typed(named("Spot"), [["row", Edm.Int32], ["column", Edm.Int32, Edm.Nullable]]);
const Crew = typed(named("Crew"), [
  ["code", Edm.Key, Edm.Int32, Edm.Computed],
  ["title", Edm.String],
]);
const Person = typed(named("Person"), [
  ["code", Edm.Key, Edm.Guid, Edm.Computed],
  ["group", Edm.String],
  ["how", Edm.String],
]);
const Soil = typed(named("Soil"), [["code", Edm.Key, Edm.String], ["says", Edm.String, Edm.Nullable]]);
const Shelf = typed(named("Shelf"), [
  ["ref", Edm.Key, Edm.Guid, Edm.Computed],
  ["label", Edm.String],
  ["soil", Edm.String, Edm.Nullable],
  ["crews", Edm.Collection(Edm.EntityType(Crew))],
]);
const Bed = typed(named("Bed"), [
  ["no", Edm.Key, Edm.Int32, Edm.Computed],
  ["title", Edm.String],
  ["price", Edm.Double, Edm.Nullable],
  ["due", Edm.Date, Edm.Nullable],
  ["open", Edm.Boolean],
  ["marks", Edm.Collection(Edm.String)],
  ["spot", Edm.ComplexType(Spot), Edm.Nullable],
  ["after", Edm.Int32, Edm.Nullable],
  ["shelf", Edm.Guid, Edm.Nullable],
  ["touchedBy", Edm.String, Edm.Computed],
  ["touchedIn", Edm.String, Edm.Computed],
  ["people", Edm.Collection(Edm.EntityType(Person))],
]);

const Whom = typed(named("Whom"), [
  ["group", Edm.String],
  ["how", Edm.String],
]);
// Bound to a bed, as it is in the state of its tenant.
Bed.prototype.assign = function (result, people) {
  const one = homes.get(result.touchedIn).Beds.find((bed) => bed.no === result.no);
  one.people = (people || []).map((person) => ({ code: randomUUID(), group: person.group, how: person.how }));
};
odata.result(Bed.prototype, "assign", 0);
Edm.Collection(() => Edm.ComplexType(Whom))(Bed.prototype, "assign", 1);
Edm.Action(Bed.prototype, "assign");
const homes = new Map();

function tenant(name) {
  const state = { Beds: [], Shelves: [], Soils: [], Crews: [], next: name === "glade" ? 7 : 400 };
  homes.set(name, state);
  const given = { Beds: "no", Shelves: "ref", Soils: "code", Crews: "code" };
  const same = (one, other) => String(one).toLowerCase() === String(other).toLowerCase();

  function controller(set, type, more = {}) {
    const key = given[set];
    const find = (id) => {
      const found = state[set].find((one) => same(one[key], id));
      if (!found) throw Object.assign(new Error(`There is no ${id} in ${set}`), { statusCode: 404 });
      return found;
    };
    const Own = { [set]: class extends ODataController {
      find(query) {
        return query ? state[set].filter(createFilter(query)) : state[set];
      }
      findOne(id) {
        return find(id);
      }
      insert(body) {
        const made = { ...body };
        if (set === "Beds" || set === "Crews") made[key] = state.next++;
        if (set === "Shelves") made[key] = randomUUID();
        if (set === "Beds") Object.assign(made, { people: [], touchedBy: "the service", touchedIn: name });
        if (set === "Shelves") made.members = [];
        if (set === "Soils" && !made.code) throw Object.assign(new Error("A soil needs a code"), { statusCode: 400 });
        state[set].push(made);
        return made;
      }
      update(id, body) {
        const one = find(id);
        if (key in body && !same(body[key], id))
          throw Object.assign(new Error("A key cannot be changed"), { statusCode: 400 });
        for (const [name, value] of Object.entries(body)) {
          const merges = name === "spot" && value && one[name];
          one[name] = merges ? { ...one[name], ...value } : value;
        }
      }
      remove(id) {
        const one = find(id);
        if (set === "Beds" && state.Beds.some((other) => other.after === one.no))
          throw Object.assign(new Error("Another bed comes after it"), { statusCode: 409 });
        state[set].splice(state[set].indexOf(one), 1);
      }
    } }[set];
    const proto = Own.prototype;
    odata.GET(proto, "find");
    odata.filter(proto, "find", 0);
    odata.GET(proto, "findOne");
    odata.key(proto, "findOne", 0);
    odata.POST(proto, "insert");
    odata.body(proto, "insert", 0);
    odata.PATCH(proto, "update");
    odata.key(proto, "update", 0);
    odata.body(proto, "update", 1);
    odata.DELETE(proto, "remove");
    odata.key(proto, "remove", 0);
    more.own?.(proto, find);
    odata.type(type)(Own);
    return Own;
  }

  // What belongs to a policy: people by an action that replaces them all, crews by references.
  const people = (proto, find) => {
    proto.people = (bed) => find(bed.no).people;
    odata.GET("people")(proto, "people");
    odata.result(proto, "people", 0);
  };
  const crews = (proto, find) => {
    proto.crews = (shelf) => find(shelf.ref).members.map((code) => state.Crews.find((one) => one.code === code));
    odata.GET("crews")(proto, "crews");
    odata.result(proto, "crews", 0);
    proto.join = (ref, code) => {
      find(ref).members.push(Number(code));
    };
    odata.createRef("crews")(proto, "join");
    odata.key(proto, "join", 0);
    odata.link(proto, "join", 1);
    proto.leave = (ref, code) => {
      const one = find(ref);
      one.members = one.members.filter((known) => known !== Number(code));
    };
    odata.deleteRef("crews")(proto, "leave");
    odata.key(proto, "leave", 0);
    odata.link(proto, "leave", 1);
  };
  class Server extends ODataServer {}
  odata.namespace("Glass")(Server);
  odata.controller(controller("Beds", Bed, { own: people }), "Beds")(Server);
  odata.controller(controller("Shelves", Shelf, { own: crews }), "Shelves")(Server);
  odata.controller(controller("Soils", Soil), "Soils")(Server);
  odata.controller(controller("Crews", Crew), "Crews")(Server);
  return { state, Server };
}

async function admitted(request, response, next) {
  const token = (request.headers.authorization || "").replace(/^Bearer /, "");
  const answer = await fetch(`${issuer}/token/introspection`, {
    method: "POST",
    headers: { Authorization: "Basic " + Buffer.from("beds:the wall of the garden").toString("base64") },
    body: new URLSearchParams({ token }),
  });
  const told = await answer.json();
  const scopes = (told.scope || "").split(" ");
  if (!told.active || !scopes.includes("policies")) {
    response.set("WWW-Authenticate", `Bearer resource_metadata="${base}/about"`);
    return response.status(401).json({ error: { code: "401", message: "Who are you?" } });
  }
  next();
}

const app = express();
app.get("/about", (request, response) =>
  response.json({ resource: `${base}/glade/odata`, authorization_servers: [issuer] }),
);
const states = {};
for (const name of ["glade", "meadow"]) {
  const { state, Server } = tenant(name);
  states[name] = state;
  app.use(`/${name}/odata`, admitted, Server.create());
}
// For the tests alone: what a tenant has.
app.get("/state", (request, response) => response.json(states));
app.post("/state", bodyParser.json(), (request, response) => {
  for (const [name, state] of Object.entries(request.body)) Object.assign(states[name], state);
  response.json({});
});
app.listen(Number(port), "127.0.0.1", () => console.log("ready"));
