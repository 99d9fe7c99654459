/** A piece of code to copy; the tests run each as it stands on the page. */
export interface Snippet {
  id: string;
  name: string;
  /** What it needs, in a sentence. */
  needs: string;
  text: (at: { url: string; to: string }) => string;
}

const title = 'Turnstone: bow thruster check due';

export const sending: Snippet[] = [
  {
    id: 'curl',
    name: 'curl',
    needs: 'curl and a shell',
    text: ({ url, to }) => `curl ${url}/v1/notifications \\
  -H "Authorization: Bearer $ROVETT_KEY" \\
  -H "Content-Type: application/json" \\
  -d '{"to":["${to}"],"type":"engine.check.due","title":"${title}"}'`,
  },
  {
    id: 'csharp',
    name: 'C#',
    needs: 'the package Rovett.Client',
    text: ({ url, to }) => `using Rovett.Client;

using var rovett = new RovettSender(new RovettSendOptions
{
    Url = new Uri("${url}"),
    Key = Environment.GetEnvironmentVariable("ROVETT_KEY"),
});
var sent = await rovett.Send(new Notification("engine.check.due", "${title}", "${to}"));
Console.WriteLine(sent.Id);`,
  },
  {
    id: 'typescript',
    name: 'TypeScript',
    needs: 'the package rovett, Node 20 or later',
    text: ({ url, to }) => `import { Backend } from 'rovett/backend';

const rovett = new Backend({ url: '${url}', key: process.env.ROVETT_KEY ?? '' });
const sent = await rovett.send({
  to: ['${to}'],
  type: 'engine.check.due',
  title: '${title}',
});
console.log(sent.id);`,
  },
  {
    id: 'python',
    name: 'Python',
    needs: 'Python 3, nothing else',
    text: ({ url, to }) => `import json, os, urllib.request

request = urllib.request.Request(
    "${url}/v1/notifications",
    data=json.dumps({
        "to": ["${to}"],
        "type": "engine.check.due",
        "title": "${title}",
    }).encode(),
    headers={
        "Authorization": "Bearer " + os.environ["ROVETT_KEY"],
        "Content-Type": "application/json",
    },
)
with urllib.request.urlopen(request) as answer:
    print(json.load(answer)["id"])`,
  },
  {
    id: 'php',
    name: 'PHP',
    needs: 'PHP 8, nothing else',
    text: ({ url, to }) => `<?php
$answer = file_get_contents('${url}/v1/notifications', false, stream_context_create(['http' => [
    'method' => 'POST',
    'header' => [
        'Authorization: Bearer ' . getenv('ROVETT_KEY'),
        'Content-Type: application/json',
    ],
    'content' => json_encode([
        'to' => ['${to}'],
        'type' => 'engine.check.due',
        'title' => '${title}',
    ]),
]]));
echo json_decode($answer)->id, "\\n";`,
  },
  {
    id: 'ruby',
    name: 'Ruby',
    needs: 'Ruby 3, nothing else',
    text: ({ url, to }) => `require "json"
require "net/http"

answer = Net::HTTP.post(
  URI("${url}/v1/notifications"),
  { to: ["${to}"], type: "engine.check.due", title: "${title}" }.to_json,
  "Authorization" => "Bearer #{ENV.fetch("ROVETT_KEY")}",
  "Content-Type" => "application/json"
)
puts JSON.parse(answer.body)["id"]`,
  },
];
