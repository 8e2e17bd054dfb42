// Who gives out tokens, on somebody else's server (npm: oidc-provider): by secrets in a header and in a form, by
// private keys, and to a person at another device. node issuer.mjs PORT RESOURCE... < JWKS
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { pathToFileURL } from "node:url";

const require = createRequire(`${process.env.NODE_PATH}/`);
const { default: Provider } = await import(pathToFileURL(require.resolve("oidc-provider")).href);
const [port, ...resources] = process.argv.slice(2);
const issuer = `http://127.0.0.1:${port}`;
const jwks = JSON.parse(readFileSync(0, "utf8"));
const account = (client_id, method, more = {}) => ({
  client_id,
  token_endpoint_auth_method: method,
  grant_types: ["client_credentials"],
  redirect_uris: [],
  response_types: [],
  ...more,
});
const client_secret = "a heron & 100% of the pond: +";
const device = ["urn:ietf:params:oauth:grant-type:device_code", "refresh_token"];

const provider = new Provider(issuer, {
  clients: [
    account("by header", "client_secret_basic", { client_secret }),
    account("by-form", "client_secret_post", { client_secret }),
    account("by-key", "private_key_jwt", { jwks }),
    account("by-person", "none", { grant_types: device }),
    account("beds", "client_secret_basic", { client_secret: "the wall of the garden" }),
  ],
  scopes: ["openid", "offline_access", "policies"],
  clientAuthMethods: ["client_secret_basic", "client_secret_post", "private_key_jwt", "none"],
  ttl: { DeviceCode: 600, ClientCredentials: 600, AccessToken: Number(process.env.TOKEN_SECONDS || 600) },
  issueRefreshToken: () => true,
  rotateRefreshToken: true,
  features: {
    clientCredentials: { enabled: true },
    deviceFlow: { enabled: true },
    introspection: { enabled: true, allowedPolicy: () => true },
    revocation: { enabled: true, allowedPolicy: () => true },
    resourceIndicators: {
      enabled: true,
      defaultResource: () => undefined,
      useGrantedResource: () => true,
      getResourceServerInfo: (ctx, resource) => {
        if (!resources.includes(resource)) throw Object.assign(new Error("invalid_target"), { expose: true, statusCode: 400, error: "invalid_target" });
        return { scope: "policies", audience: resource, accessTokenFormat: "opaque" };
      },
    },
  },
  cookies: { keys: ["a", "b"] },
  findAccount: (ctx, sub) => ({ accountId: sub, claims: () => ({ sub }) }),
});
provider.listen(Number(port), "127.0.0.1", () => console.log("ready"));
