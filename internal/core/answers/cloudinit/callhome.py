# Reports this machine once to the computer that made it, and removes itself.
import json, os, pwd, shutil, socket, subprocess, time, urllib.error, urllib.request

HERE, RESULT = '/etc/mintbatch', '/run/cloud-init/result.json'
STAGES = '/var/lib/mintbatch/stages.jsonl'


def text(path):
    try:
        with open(path) as f:
            return f.read().strip()
    except OSError:
        return ''


def output(*command):
    try:
        return subprocess.run(command, stdout=subprocess.PIPE, universal_newlines=True).stdout.strip()
    except OSError:
        return ''


def report():
    addresses = {}
    for card in json.loads(output('ip', '-j', 'addr') or '[]'):
        if card.get('link_type') == 'ether':
            mine = addresses.setdefault(card.get('address', '').lower(), [])
            mine += ['%s/%d' % (a['local'], a['prefixlen']) for a in card.get('addr_info', []) if 'local' in a]
    result = json.loads(text(RESULT) or '{}').get('v1', {})
    key = text('/etc/ssh/ssh_host_ed25519_key.pub').split()
    zone = os.path.realpath('/etc/localtime').partition('/zoneinfo/')[2]
    stages = {}
    for line in text(STAGES).splitlines():
        try:
            entry = json.loads(line)
        except ValueError:  # cut short
            continue
        stages[entry.get('name')] = entry
    over = stages.pop(None, None)
    return {'stages': list(stages.values()), 'stages_over': over is not None, 'hostname': socket.gethostname().split('.')[0], 'fqdn': output('hostname', '-f') or socket.getfqdn(), 'addresses': addresses,
            'logins': [p.pw_name for p in pwd.getpwall()], 'host_key': ' '.join(key[:2]), 'timezone': zone,
            'machine_id': text('/etc/machine-id'), 'instance': text('/var/lib/cloud/data/instance-id'), 'errors': result.get('errors', [])}


def call(url):
    open_ = urllib.request.build_opener(urllib.request.ProxyHandler({})).open
    while True:
        try:
            body = json.dumps(report()).encode()
            return open_(urllib.request.Request(url, body, {'Content-Type': 'application/json'}), timeout=20)
        except urllib.error.HTTPError as e:
            if e.code in (403, 410):  # nobody waits for this machine any more
                return None
        except (OSError, ValueError):
            pass
        time.sleep(5)


while not os.path.exists(RESULT):
    time.sleep(1)
while os.path.exists(HERE + '/stages'):  # which goes when they are over
    time.sleep(1)
url = text(HERE + '/call-home')
if url:
    call(url)
output('systemctl', 'disable', 'mintbatch-call-home.service')
shutil.rmtree(HERE, ignore_errors=True)
try:
    os.remove('/etc/systemd/system/mintbatch-call-home.service')
except OSError:
    pass
