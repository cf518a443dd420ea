/** The code of the quick start, by platform. Plain HTTP where there is no library. */

export const PLATFORMS = [
  { id: 'browser', label: 'Browser' },
  { id: 'node', label: 'Node.js' },
  { id: 'shell', label: 'Shell' },
  { id: 'swift', label: 'Swift' },
  { id: 'kotlin', label: 'Kotlin' },
] as const;
export type QuickStartPlatform = (typeof PLATFORMS)[number]['id'];
type Step = { title: string; code: string };

const ACCOUNT = 'Create an account';
const STORE = 'Store a record';
const READ = 'Read it back';

const library = (head: string): Step[] => [
  { title: ACCOUNT, code: `${head}\nawait orchard.signUp({ email: 'wren@hikers.example', password: 'over-the-col', name: 'Wren' });` },
  { title: STORE, code: `const note = await orchard.collection('notes').create({ text: 'Snow on the col', altitudeM: 1610 });` },
  { title: READ, code: `const { items } = await orchard.collection('notes').list({ filter: 'altitudeM > 1000' });\nconsole.log(items);` },
];

const WRITERS: Record<QuickStartPlatform, (address: string, key: string) => Step[]> = {
  browser: (address, key) =>
    library(
      `<script type="module">\nimport { connect } from '${address}/client/orchard.js';\nconst orchard = connect({ address: '${address}', clientKey: '${key}' });`,
    ),
  node: (address, key) =>
    library(
      `// curl -O ${address}/client/orchard.js\nimport { connect } from './orchard.js';\nconst orchard = connect({ address: '${address}', clientKey: '${key}' });`,
    ),
  shell: (address, key) => [
    {
      title: ACCOUNT,
      code: `KEY=${key}
TOKEN=$(curl -s ${address}/app/v1/users \\
  -H "Orchard-Key: $KEY" -H 'Content-Type: application/json' \\
  -d '{"email":"wren@hikers.example","password":"over-the-col","name":"Wren"}' \\
  | grep -o '"accessToken":"[^"]*' | cut -d'"' -f4)`,
    },
    {
      title: STORE,
      code: `curl -s ${address}/app/v1/data/notes \\
  -H "Orchard-Key: $KEY" -H "Authorization: Bearer $TOKEN" \\
  -H 'Content-Type: application/json' -d '{"text":"Snow on the col","altitudeM":1610}'`,
    },
    {
      title: READ,
      code: `curl -s -G ${address}/app/v1/data/notes --data-urlencode 'filter=altitudeM > 1000' \\
  -H "Orchard-Key: $KEY" -H "Authorization: Bearer $TOKEN"`,
    },
  ],
  swift: (address, key) => [
    {
      title: ACCOUNT,
      code: `import Foundation\n\nlet address = URL(string: "${address}")!\nvar token: String?\n\nfunc call(_ method: String, _ path: String, _ body: [String: Any]? = nil) async throws -> [String: Any] {\n    var request = URLRequest(url: URL(string: path, relativeTo: address)!)\n    request.httpMethod = method\n    request.setValue("${key}", forHTTPHeaderField: "Orchard-Key")\n    if let token { request.setValue("Bearer \\(token)", forHTTPHeaderField: "Authorization") }\n    if let body {\n        request.setValue("application/json", forHTTPHeaderField: "Content-Type")\n        request.httpBody = try JSONSerialization.data(withJSONObject: body)\n    }\n    let (data, _) = try await URLSession.shared.data(for: request)\n    return try JSONSerialization.jsonObject(with: data) as! [String: Any]\n}\n\nlet account = try await call("POST", "/app/v1/users", ["email": "wren@hikers.example", "password": "over-the-col"])\ntoken = account["accessToken"] as? String`,
    },
    { title: STORE, code: `let note = try await call("POST", "/app/v1/data/notes", ["text": "Snow on the col", "altitudeM": 1610])` },
    { title: READ, code: `let page = try await call("GET", "/app/v1/data/notes?filter=altitudeM%20%3E%201000")\nprint(page["items"]!)` },
  ],
  kotlin: (address, key) => [
    {
      title: ACCOUNT,
      code: `import java.net.URI\nimport java.net.http.*\nimport org.json.JSONObject\n\nval http = HttpClient.newHttpClient()\nvar token: String? = null\n\nfun call(method: String, path: String, body: JSONObject? = null): JSONObject {\n    val request = HttpRequest.newBuilder(URI("${address}$path"))\n        .header("Orchard-Key", "${key}")\n        .header("Content-Type", "application/json")\n        .method(method, body?.let { HttpRequest.BodyPublishers.ofString(it.toString()) } ?: HttpRequest.BodyPublishers.noBody())\n    token?.let { request.header("Authorization", "Bearer $it") }\n    return JSONObject(http.send(request.build(), HttpResponse.BodyHandlers.ofString()).body())\n}\n\ntoken = call("POST", "/app/v1/users", JSONObject(mapOf("email" to "wren@hikers.example", "password" to "over-the-col"))).getString("accessToken")`,
    },
    {
      title: STORE,
      code: `val note = call("POST", "/app/v1/data/notes", JSONObject(mapOf("text" to "Snow on the col", "altitudeM" to 1610)))`,
    },
    {
      title: READ,
      code: `val page = call("GET", "/app/v1/data/notes?filter=altitudeM%20%3E%201000")\nprintln(page.getJSONArray("items"))`,
    },
  ],
};

/** Three steps with address and key filled in. */
export const quickStart = (platform: QuickStartPlatform, address: string, key: string): Step[] => WRITERS[platform](address, key);
