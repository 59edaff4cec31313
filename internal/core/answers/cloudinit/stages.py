# Does the stages that this machine was given, in order and each once, over restarts, and
# removes itself.
import json, os, shutil, subprocess, sys, time

HERE, LOG, RESULT = '/etc/mintbatch/stages', '/var/lib/mintbatch/stages.jsonl', '/run/cloud-init/result.json'


def note(**entry):
    with open(LOG, 'a') as f:
        f.write(json.dumps(entry) + '\n')
        f.flush()
        os.fsync(f.fileno())


def leave():
    subprocess.call(['systemctl', 'disable', '-q', 'mintbatch-stages.service'])
    shutil.rmtree(HERE, ignore_errors=True)
    for left in (lambda: os.remove('/etc/systemd/system/mintbatch-stages.service'), lambda: os.rmdir(os.path.dirname(HERE))):
        try:
            left()
        except OSError:  # somebody else needs it
            pass
    sys.exit()


while not os.path.exists(RESULT):
    time.sleep(1)
os.makedirs(os.path.dirname(LOG), mode=0o700, exist_ok=True)
past = {}
if os.path.exists(LOG):
    with open(LOG, 'r+', errors='replace') as f:
        whole = f.read()
        if not whole.endswith('\n'):  # it was cut short
            f.write('\n')
    for line in whole.splitlines():
        try:
            entry = json.loads(line)
        except ValueError:
            continue
        past[entry.get('name')] = entry['state']
with open(HERE + '/plan.json') as f:
    plan = json.load(f)
for number, stage in enumerate(plan, 1):
    name = stage['name']
    if past.get(name) == 'done':
        continue
    note(name=name, state='begun')
    began = time.time()
    # Into a file, not a pipe: what the stage leaves running may write for ever.
    script, home = ['/bin/sh', '%s/%02d.sh' % (HERE, number)], '/root'
    if stage.get('login'):  # who must not read what else is here
        with open(script[1]) as f:
            script, home = ['runuser', '-l', stage['login'], '-s', '/bin/sh', '-c', f.read()], '/'
    with open(HERE + '/output', 'w+b') as out:
        code = subprocess.call(script, stdin=subprocess.DEVNULL, stdout=out, stderr=subprocess.STDOUT, cwd=home)
        out.seek(max(0, out.seek(0, 2) - 20000))
        last = [line[:500] for line in out.read().decode('utf-8', 'replace').splitlines()[-20:]]
    note(name=name, state='failed' if code else 'done', seconds=round(time.time() - began, 1), code=code, output=last)
    if code:
        leave()
    if stage['restart']:
        os.sync()
        subprocess.call(['systemctl', 'reboot'])
        sys.exit()
note(state='over')
leave()
