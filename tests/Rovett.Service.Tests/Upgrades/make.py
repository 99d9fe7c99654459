#!/usr/bin/env python3
"""Makes a store of the present schema, with what the service answers about it. Do so before a step is added to the schema.

  make.py .build/cli/rovett.dll h17-a09.zip                            a data folder; needs sqlite3
  make.py .build/cli/rovett.dll p19-a01.zip "Host=…;Database=empty"    a database; needs pg_dump

The name has the last steps of the history (h) or the database (p), and of the credentials (a).
"""
import base64, hashlib, hmac, json, os, signal, subprocess, sys, tempfile, time, urllib.error, urllib.request, zipfile

dll, target = os.path.abspath(sys.argv[1]), os.path.abspath(sys.argv[2])
database = sys.argv[3] if len(sys.argv) > 3 else None
folder = tempfile.mkdtemp()
ready = os.path.join(folder, 'ready.json')
home = ['--database', database] if database else ['--data', os.path.join(folder, 'data')]
service = subprocess.Popen(['dotnet', dll, 'serve', '--port', '0', '--ready-file', ready] + home, cwd=folder,
                           stdout=subprocess.DEVNULL, env={**os.environ, 'ROVETT_WEBHOOK_NETWORKS': '127.0.0.1/32'})
while not os.path.exists(ready):
    assert service.poll() is None, 'the service has ended'
    time.sleep(.05)
said = json.load(open(ready))
url, credentials = said['url'], said['credentials']
last = 0.0


def token(user, roles):
    """Each is newer than the one before."""
    global last
    last = max(time.time(), last + .001)
    parts = [{'alg': 'HS256', 'typ': 'JWT'}, {'sub': user, 'iat': last, 'exp': int(last) + 3600, 'roles': roles}]
    text = '.'.join(base64.urlsafe_b64encode(json.dumps(p).encode()).rstrip(b'=').decode() for p in parts)
    mac = hmac.new(credentials['tokenSigningSecret'].encode(), text.encode(), hashlib.sha256).digest()
    return text + '.' + base64.urlsafe_b64encode(mac).rstrip(b'=').decode()


def call(method, path, body=None, credential=None, kind='application/json'):
    """Answers status and JSON; an earlier version may not know the path."""
    headers = {'Authorization': 'Bearer ' + (credential or credentials['adminKey'])}
    if body is not None:
        headers['Content-Type'] = kind
    request = urllib.request.Request(url + path, None if body is None else json.dumps(body).encode(), headers, method=method)
    try:
        with urllib.request.urlopen(request) as answer:
            status, text = answer.status, answer.read()
    except urllib.error.HTTPError as refused:
        status, text = refused.code, refused.read()
    if status >= 400 and status != 404:
        print(method, path, status, text.decode(), file=sys.stderr)
    return status, json.loads(text) if text[:1] in (b'{', b'[') else None


roles = {'mara': ['engineer', 'berth-3'], 'ivo': ['engineer'], 'teo': ['berth-3', 'deckhand'], 'ruth': ['master'], 'pia': ['harbour-desk']}
names = {'mara': 'Mara Quill', 'ivo': 'Ivo Brandt', 'teo': 'Teo Lind', 'ruth': 'Ruth Aldane', 'pia': 'Pia Sorel'}
for user in roles:
    call('PUT', f'/v1/users/{user}', {'displayName': names[user], 'roles': roles[user][:1]})
people = {user: token(user, roles[user]) for user in roles}
for user in roles:
    call('GET', '/v1/inbox/totals', credential=people[user])
sent = []


def send(to, title, **more):
    status, answer = call('POST', '/v1/notifications', {'to': to, 'type': 'engine.check.due', 'title': title, **more})
    assert status == 201
    sent.append(answer['id'])
    return answer['id']


check = send(['role:engineer'], 'Turnstone: bow thruster check due', body='Before the evening crossing.', data={'vessel': 'Turnstone'})
shift = send(['user:mara'], 'Turnstone: your shift begins at six')
for i in range(8):
    send(['everyone'], f'Sounding {i}: fog in the sound')
bilge = send(['role:engineer', 'user:ruth'], 'Plover: bilge pump 2 hot')
send(['role:berth-3'], 'Berth 3: ramp is closed')
for i in range(6):
    send(['user:teo', 'user:pia'], f'Tide table {i}')
send(['role:master'], 'Sign the sailing order', deadlines=[{'by': 'read', 'within': 'PT720H'}])
call('POST', '/v1/inbox/marks', {'read': {'ids': [check, shift]}}, people['mara'])
call('POST', '/v1/inbox/marks', {'received': {'ids': [check]}}, people['ivo'])
call('POST', '/v1/inbox/marks', {'read': {'all': True}}, people['pia'])
call('POST', '/v1/inbox/marks', {'unread': {'ids': [sent[3]]}}, people['pia'])
call('DELETE', f'/v1/notifications/{bilge}')
send(['user:pia'], 'One more for the desk')
call('POST', '/v1/keys', {'name': 'booking backend', 'scopes': ['send']})
call('PUT', '/v1/webhooks/bridge', {'url': 'http://127.0.0.1:9/hook'})
call('POST', '/v1/spaces', {'name': 'harbour'})
call('PUT', '/v1/policies', {'policies': [{'name': 'crew', 'topic': 'berth/{berth}', 'may': ['subscribe', 'follow', 'presence'], 'when': {'anyone': True}}]})
if call('POST', '/v1/follows', {'topic': 'berth/3'}, people['mara'])[0] < 300:
    send(['topic:berth/3'], 'Berth 3: Turnstone is in')
call('PUT', '/v1/rules', {'rules': [{'name': 'engine', 'event': 'engine.check.due', 'to': ['role:engineer'],
                                     'notification': {'type': 'engine.check.due', 'title': '{{ data.vessel }}: check due'}}]})
for number, data in enumerate([{'vessel': 'Turnstone'}, {'none': 1}]):
    event = {'specversion': '1.0', 'id': f'{number}', 'source': '/planning/1', 'type': 'engine.check.due', 'data': data}
    call('POST', '/v1/events', event, kind='application/cloudevents+json')

asked = []


def ask(path, user=None):
    status, answer = call('GET', path, credential=people[user] if user else None)
    if status == 200:
        asked.append({'path': path, **({'as': user} if user else {}), 'json': answer})


for user in roles:
    for path in '/v1/inbox/totals', '/v1/inbox?limit=50', '/v1/follows':
        ask(path, user)
    ask(f'/v1/users/{user}')
for one in sent:
    ask(f'/v1/notifications/{one}')
for path in 'keys', 'webhooks', 'policies', 'rules', 'set-aside', 'spaces', 'settings':
    ask(f'/v1/{path}')
service.send_signal(signal.SIGTERM)
service.wait(20)

files = {'asked.json': json.dumps(asked)}
if database:
    parts = dict(part.split('=', 1) for part in database.split(';') if part)
    dump = ['pg_dump', '-h', parts['Host'], '-p', parts.get('Port', '5432'), '-U', parts['Username'], '--inserts', '-O', '-x', parts['Database']]
    lines = subprocess.run(dump, check=True, capture_output=True, text=True).stdout.splitlines(keepends=True)
    files['store.sql'] = ''.join(line for line in lines if not line.startswith('\\'))
else:
    for name in 'history', 'access':
        files[f'{name}.sql'] = subprocess.run(['sqlite3', f'{folder}/data/{name}.db', '.dump'], check=True, capture_output=True, text=True).stdout
with zipfile.ZipFile(target, 'w', zipfile.ZIP_DEFLATED, compresslevel=9) as archive:
    for name, text in files.items():
        archive.writestr(zipfile.ZipInfo(name), text, compress_type=zipfile.ZIP_DEFLATED)
print(f'{target}: {len(sent)} sent, {len(asked)} asked')
