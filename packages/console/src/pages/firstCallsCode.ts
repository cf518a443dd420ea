/** The code of the first calls, by platform. Plain HTTP where there is no library. */

export const PLATFORMS = [
  { id: 'browser', label: 'Browser' },
  { id: 'node', label: 'Node.js' },
  { id: 'shell', label: 'Shell' },
  { id: 'swift', label: 'Swift' },
  { id: 'kotlin', label: 'Kotlin' },
] as const;
export type FirstCallsPlatform = (typeof PLATFORMS)[number]['id'];
/** What has come when a step is done. */
export type Arrival = 'call' | 'user' | 'record' | 'device' | 'event';
export type Step = { title: string; code: string; done: Arrival };

const CONNECT = { title: 'Connect', done: 'call' } as const;
const ACCOUNT = { title: 'Create an account', done: 'user' } as const;
const STORE = { title: 'Store a record, and read it back', done: 'record' } as const;
const DEVICE = { title: 'Register the device', done: 'device' } as const;
const EVENT = { title: 'Count something that people do', done: 'event' } as const;

const library = (head: string): Step[] => [
  { ...CONNECT, code: `${head}\nconsole.log(await orchard.connection());` },
  { ...ACCOUNT, code: `await orchard.signUp({ email: 'wren@hikers.example', password: 'over-the-col', name: 'Wren' });` },
  {
    ...STORE,
    code: `const notes = orchard.collection('notes');\nawait notes.create({ text: 'Snow on the col', altitudeM: 1610 });\nconst { items } = await notes.list({ filter: 'altitudeM > 1000' });\nconsole.log(items);`,
  },
  { ...DEVICE, code: `await orchard.device.register({ appVersion: '1.0.0' });` },
  { ...EVENT, code: `await orchard.events.track('note_written', { words: 4 });\nawait orchard.events.flush();` },
];

const WRITERS: Record<FirstCallsPlatform, (address: string, key: string) => Step[]> = {
  browser: (address, key) =>
    library(
      `<script type="module">\nimport { connect } from '${address}/client/orchard.js';\nconst orchard = connect({ address: '${address}', clientKey: '${key}' });`,
    ),
  node: (address, key) =>
    library(
      `// curl -O ${address}/client/orchard.js\nimport { connect } from './orchard.js';\nconst orchard = connect({ address: '${address}', clientKey: '${key}' });`,
    ),
  shell: (address, key) => [
    { ...CONNECT, code: `KEY=${key}\ncurl -s ${address}/app/v1/connection -H "Orchard-Key: $KEY"` },
    {
      ...ACCOUNT,
      code: `TOKEN=$(curl -s ${address}/app/v1/users \\
  -H "Orchard-Key: $KEY" -H 'Content-Type: application/json' \\
  -d '{"email":"wren@hikers.example","password":"over-the-col","name":"Wren"}' \\
  | grep -o '"accessToken":"[^"]*' | cut -d'"' -f4)`,
    },
    {
      ...STORE,
      code: `curl -s ${address}/app/v1/data/notes \\
  -H "Orchard-Key: $KEY" -H "Authorization: Bearer $TOKEN" \\
  -H 'Content-Type: application/json' -d '{"text":"Snow on the col","altitudeM":1610}'
curl -s -G ${address}/app/v1/data/notes --data-urlencode 'filter=altitudeM > 1000' \\
  -H "Orchard-Key: $KEY" -H "Authorization: Bearer $TOKEN"`,
    },
    {
      ...DEVICE,
      code: `SECRET=$(curl -s -X PUT ${address}/app/v1/devices/my-first-device \\
  -H "Orchard-Key: $KEY" -H "Authorization: Bearer $TOKEN" -H 'Content-Type: application/json' \\
  -d '{"platform":"desktop","appVersion":"1.0.0","os":"Debian 12","locale":"en","timeZone":"UTC","permission":"unasked"}' \\
  | grep -o '"secret":"[^"]*' | cut -d'"' -f4)`,
    },
    {
      ...EVENT,
      code: `NOW=$(date -u +%Y-%m-%dT%H:%M:%SZ)
curl -s ${address}/app/v1/events -H "Orchard-Key: $KEY" -H "Authorization: Bearer $TOKEN" \\
  -H 'Orchard-Device: my-first-device' -H "Orchard-Device-Secret: $SECRET" -H 'Content-Type: application/json' \\
  -d '{"sentAt":"'$NOW'","events":[{"id":"'$(cat /proc/sys/kernel/random/uuid)'","name":"note_written","at":"'$NOW'"}]}'`,
    },
  ],
  swift: (address, key) => [
    {
      ...CONNECT,
      code: `import Foundation\n\nlet address = URL(string: "${address}")!\nvar token: String?\n\nfunc call(_ method: String, _ path: String, _ body: [String: Any]? = nil) async throws -> [String: Any] {\n    var request = URLRequest(url: URL(string: path, relativeTo: address)!)\n    request.httpMethod = method\n    request.setValue("${key}", forHTTPHeaderField: "Orchard-Key")\n    if let token { request.setValue("Bearer \\(token)", forHTTPHeaderField: "Authorization") }\n    if let body {\n        request.setValue("application/json", forHTTPHeaderField: "Content-Type")\n        request.httpBody = try JSONSerialization.data(withJSONObject: body)\n    }\n    let (data, _) = try await URLSession.shared.data(for: request)\n    return try JSONSerialization.jsonObject(with: data) as! [String: Any]\n}\n\nprint(try await call("GET", "/app/v1/connection"))`,
    },
    {
      ...ACCOUNT,
      code: `let account = try await call("POST", "/app/v1/users", ["email": "wren@hikers.example", "password": "over-the-col"])\ntoken = account["accessToken"] as? String`,
    },
    {
      ...STORE,
      code: `let note = try await call("POST", "/app/v1/data/notes", ["text": "Snow on the col", "altitudeM": 1610])\nlet page = try await call("GET", "/app/v1/data/notes?filter=altitudeM%20%3E%201000")\nprint(page["items"]!)`,
    },
    {
      ...DEVICE,
      code: `let device = try await call("PUT", "/app/v1/devices/my-first-phone", ["platform": "ios", "appVersion": "1.0.0", "os": "iOS", "locale": "en", "timeZone": "UTC", "permission": "unasked"])\nlet secret = device["secret"]! // keep it: it is told once`,
    },
  ],
  kotlin: (address, key) => [
    {
      ...CONNECT,
      code: `import java.net.URI\nimport java.net.http.*\nimport org.json.JSONObject\n\nval http = HttpClient.newHttpClient()\nvar token: String? = null\n\nfun call(method: String, path: String, body: JSONObject? = null): JSONObject {\n    val request = HttpRequest.newBuilder(URI("${address}$path"))\n        .header("Orchard-Key", "${key}")\n        .header("Content-Type", "application/json")\n        .method(method, body?.let { HttpRequest.BodyPublishers.ofString(it.toString()) } ?: HttpRequest.BodyPublishers.noBody())\n    token?.let { request.header("Authorization", "Bearer $it") }\n    return JSONObject(http.send(request.build(), HttpResponse.BodyHandlers.ofString()).body())\n}\n\nprintln(call("GET", "/app/v1/connection"))`,
    },
    {
      ...ACCOUNT,
      code: `token = call("POST", "/app/v1/users", JSONObject(mapOf("email" to "wren@hikers.example", "password" to "over-the-col"))).getString("accessToken")`,
    },
    {
      ...STORE,
      code: `val note = call("POST", "/app/v1/data/notes", JSONObject(mapOf("text" to "Snow on the col", "altitudeM" to 1610)))\nval page = call("GET", "/app/v1/data/notes?filter=altitudeM%20%3E%201000")\nprintln(page.getJSONArray("items"))`,
    },
    {
      ...DEVICE,
      code: `val device = call("PUT", "/app/v1/devices/my-first-phone", JSONObject(mapOf("platform" to "android", "appVersion" to "1.0.0", "os" to "Android", "locale" to "en", "timeZone" to "UTC", "permission" to "unasked")))\nval secret = device.getString("secret") // keep it: it is told once`,
    },
  ],
};

/** The steps with address and key filled in. */
export const firstCalls = (platform: FirstCallsPlatform, address: string, key: string): Step[] => WRITERS[platform](address, key);
