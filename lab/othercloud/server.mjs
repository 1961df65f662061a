// A SCIM 2.0 service on a public library, with that library's ways of reading
// the standard. Kambrel's tests write to it beside the cloud stand-in, so that
// no habit of the stand-in passes for the standard. Everything is in memory.
//
//   node server.mjs --listen 127.0.0.1:PORT --token-file FILE [--first-page]
//
// With --first-page every page of a list is the first: so it goes where the
// library, which expects to change the query of a request, meets a web framework
// that makes the query anew whenever it is read.
import {readFileSync} from "node:fs";
import {randomUUID} from "node:crypto";
import {parseArgs} from "node:util";
import express from "express";
import SCIMMY from "scimmy";
import SCIMMYRouters from "scimmy-routers";

const {values: options} = parseArgs({options: {listen: {type: "string"}, "token-file": {type: "string"}, "first-page": {type: "boolean"}}});
const token = readFileSync(options["token-file"], "utf8").trim();
const [host, port] = options.listen.split(":");

// Each write is told at /counts, so that tests see what was done twice.
const counts = {};
const count = (what) => { counts[what] = (counts[what] ?? 0) + 1; };

const refuse = (status, type, text) => { throw new SCIMMY.Types.Error(status, type, text); };

// declare keeps the resources of a type; unique names the attribute that only
// one of them may have a value of.
function declare(Resource, name, unique) {
	const stored = new Map();
	SCIMMY.Resources.declare(Resource)
		.ingress(async (resource, instance) => {
			const value = unique && String(instance[unique] ?? "").toLowerCase();
			for (const other of stored.values()) {
				if (unique && other.id !== resource.id && String(other[unique]).toLowerCase() === value) {
					refuse(409, "uniqueness", `${unique} ${instance[unique]} belongs to another resource already`);
				}
			}
			const now = new Date().toISOString();
			const known = resource.id && stored.get(resource.id);
			if (resource.id && !known) refuse(404, null, `there is no ${name} ${resource.id}`);
			count(`${known ? "change" : "create"} ${name}`);
			const kept = JSON.parse(JSON.stringify(instance));
			const id = known ? known.id : randomUUID();
			stored.set(id, {...kept, id, meta: {created: known ? known.meta.created : now, lastModified: now}});
			return stored.get(id);
		})
		.egress(async (resource) => {
			if (resource.id) return stored.get(resource.id) ?? refuse(404, null, `there is no ${name} ${resource.id}`);
			const all = [...stored.values()];
			return resource.filter ? resource.filter.match(all) : all;
		})
		.degress(async (resource) => {
			if (!stored.delete(resource.id)) refuse(404, null, `there is no ${name} ${resource.id}`);
			count(`delete ${name}`);
		});
}

SCIMMY.Resources.User.extend(SCIMMY.Schemas.EnterpriseUser, false);
declare(SCIMMY.Resources.User, "User", "userName");
declare(SCIMMY.Resources.Group, "Group");

const service = express();
service.get("/counts", (_, response) => response.json(counts));
if (!options["first-page"]) {
	service.use((request, _, next) => {
		Object.defineProperty(request, "query", {value: {...request.query}, writable: true});
		next();
	});
}
service.use("/scim/v2", new SCIMMYRouters({
	type: "bearer",
	handler: (request) => { if (request.header("Authorization") !== `Bearer ${token}`) throw new Error("a valid bearer token is needed"); },
}));
service.listen(Number(port), host, () => console.log(`SCIM 2.0 at http://${options.listen}/scim/v2`));
