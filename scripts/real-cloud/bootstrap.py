"""Fills the fresh cloud through its public APIs. `identity`: service users, catalogue, project and
user. `cloud`: waits for the services, then flavors, image, zones, volume types, external network,
quotas, application credential, credentials' files. Everything is looked up before it is created."""
import json
import os
import subprocess
import sys
import time

import requests

A, DIR = os.environ['ADDR'], os.environ['DIR']
ID = 'http://%s:5000/v3' % A
S = requests.Session()
S.trust_env = False
CATALOG = [('image', 'glance', ':9292'), ('placement', 'placement', ':8778'),
           ('compute', 'nova', ':8774/v2.1'), ('network', 'neutron', ':9696'),
           ('block-storage', 'cinder', ':8776/v3/%(project_id)s'),
           ('volumev3', 'cinderv3', ':8776/v3/%(project_id)s')]


def token(user, password, project):
    r = S.post(ID + '/auth/tokens', json={'auth': {
        'identity': {'methods': ['password'], 'password': {'user': {
            'name': user, 'domain': {'name': 'Default'}, 'password': password}}},
        'scope': {'project': {'name': project, 'domain': {'name': 'Default'}}}}})
    r.raise_for_status()
    return r.headers['X-Subject-Token'], r.json()['token']


TOK, INFO = token('admin', os.environ['ADMIN_PW'], 'admin')


def call(method, url, tok=None, **kw):
    h = {'X-Auth-Token': tok or TOK, **kw.pop('headers', {})}
    if ':8774/' in url:  # only there: block storage refuses (400) a version header that names only another service
        h['OpenStack-API-Version'] = 'compute 2.90'
    r = S.request(method, url, headers=h, timeout=60, **kw)
    if r.status_code >= 400:
        raise RuntimeError('%s %s: %s %s' % (method, url, r.status_code, r.text[:300]))
    return r.json() if r.content and 'json' in r.headers.get('Content-Type', '') else None


def ensure(url, plural, singular, body, key='name', **kw):
    for x in call('GET', url)[plural]:
        if x.get(key) == body[key]:
            return x
    r = call('POST', url, json={singular: body} if singular else body, **kw)
    return r[singular] if singular else r


def identity():
    ensure(ID + '/roles', 'roles', 'role', {'name': 'service'})
    roles = {r['name']: r['id'] for r in call('GET', ID + '/roles')['roles']}
    project = {p: ensure(ID + '/projects', 'projects', 'project', {'name': p, 'domain_id': 'default'})['id']
               for p in ('service', 'harbour', 'empty')}
    users = [(u, os.environ['SERVICE_PW'], 'service', ('admin', 'service'))
             for u in ('glance', 'placement', 'nova', 'neutron', 'cinder')]
    users += [('sailor', os.environ['USER_PW'], 'harbour', ('member', 'reader')),
              ('sailor', os.environ['USER_PW'], 'empty', ('member', 'reader'))]
    for name, password, proj, rs in users:
        u = ensure(ID + '/users', 'users', 'user', {'name': name, 'password': password, 'domain_id': 'default'})
        for r in rs:
            call('PUT', '%s/projects/%s/users/%s/roles/%s' % (ID, project[proj], u['id'], roles[r]))
    have = {(e['service_id'], e['interface']) for e in call('GET', ID + '/endpoints')['endpoints']}
    for typ, name, tail in CATALOG:
        s = ensure(ID + '/services', 'services', 'service', {'type': typ, 'name': name}, key='type')
        for i in ('public', 'internal', 'admin'):
            if (s['id'], i) not in have:
                call('POST', ID + '/endpoints', json={'endpoint': {
                    'service_id': s['id'], 'interface': i, 'region_id': 'RegionOne', 'url': 'http://%s%s' % (A, tail)}})


def wait(what, check, seconds=180):
    end = time.time() + seconds
    while True:
        try:
            if check():
                return
            why = 'not yet'
        except (RuntimeError, requests.RequestException) as e:
            why = e
        if time.time() > end:
            sys.exit('%s: %s' % (what, why))
        time.sleep(0.5)


def cloud():
    N, G, Q = 'http://%s:8774/v2.1' % A, 'http://%s:9292/v2' % A, 'http://%s:9696/v2.0' % A
    C = 'http://%s:8776/v3/%s' % (A, INFO['project']['id'])

    def up(url, names):
        """Each service must have reported after its process started: 'up' alone may be an old report."""
        def check():
            seen = {x['binary'] + '@' + x['host'].split('@')[0]: (x['updated_at'] or '')[:19]
                    for x in call('GET', url)['services'] if x['state'] == 'up'}
            return all(seen.get(n, '') >= time.strftime('%Y-%m-%dT%H:%M:%S', time.gmtime(
                os.path.getmtime('%s/run/%s.pid' % (DIR, pid)))) for n, pid in names.items())
        return check
    wait('compute services', up(N + '/os-services', {
        'nova-compute@compute1': 'nova-compute-1', 'nova-compute@compute2': 'nova-compute-2',
        'nova-scheduler@compute1': 'nova-scheduler', 'nova-conductor@compute1': 'nova-conductor'}))
    wait('block storage services', up(C + '/os-services', {
        'cinder-volume@block1': 'cinder-volume', 'cinder-scheduler@block1': 'cinder-scheduler'}))
    wait('network service', lambda: call('GET', Q + '/extensions'))
    wait('image service', lambda: call('GET', G + '/images'))
    hosts = lambda: {h['hypervisor_hostname'] for h in call('GET', N + '/os-hypervisors')['hypervisors'] if h['state'] == 'up'}
    if hosts() != {'compute1', 'compute2'}:
        subprocess.run(os.environ['REAL_CLOUD_DISCOVER'].split(), check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        wait('hypervisors', lambda: hosts() == {'compute1', 'compute2'})
    for zone, host in (('zone-a', 'compute1'), ('zone-b', 'compute2')):
        a = ensure(N + '/os-aggregates', 'aggregates', 'aggregate', {'name': zone, 'availability_zone': zone})
        if host not in a.get('hosts', []):
            call('POST', '%s/os-aggregates/%s/action' % (N, a['id']), json={'add_host': {'host': host}})
    for name, cpu, ram, disk in (('s1.tiny', 1, 512, 1), ('s1.small', 1, 2048, 20), ('s1.medium', 2, 4096, 40),
                                 ('s1.large', 4, 8192, 80), ('m1.large', 4, 32768, 80), ('c1.large', 16, 16384, 80)):
        ensure(N + '/flavors', 'flavors', 'flavor', {'name': name, 'vcpus': cpu, 'ram': ram, 'disk': disk})
    for name in ('debian-12', 'debian-11'):
        img = next((i for i in call('GET', G + '/images?name=' + name)['images']), None)
        if not img:
            img = call('POST', G + '/images', json={'name': name, 'visibility': 'public', 'disk_format': 'raw',
                                                    'container_format': 'bare', 'min_disk': 1, 'os_distro': 'debian'})
        if img['status'] == 'queued':
            call('PUT', '%s/images/%s/file' % (G, img['id']), data=b'\0' * 65536,
                 headers={'Content-Type': 'application/octet-stream'})
    for name in ('standard', 'fast'):
        ensure(C + '/types', 'volume_types', 'volume_type', {'name': name, 'extra_specs': {'volume_backend_name': 'null'}})
    net = ensure(Q + '/networks', 'networks', 'network', {
        'name': 'public', 'router:external': True, 'provider:network_type': 'flat', 'provider:physical_network': 'outside'})
    ensure(Q + '/subnets', 'subnets', 'subnet', {
        'name': 'public', 'network_id': net['id'], 'cidr': '203.0.113.0/24', 'ip_version': 4, 'enable_dhcp': False,
        'gateway_ip': '203.0.113.1', 'allocation_pools': [{'start': '203.0.113.10', 'end': '203.0.113.250'}]})
    wait('images', lambda: all(i['status'] == 'active' for i in call('GET', G + '/images')['images']))
    credentials()


def credentials():
    pw = os.environ['USER_PW']
    tok, info = token('sailor', pw, 'harbour')
    path = DIR + '/credentials.json'
    app = None
    if os.path.exists(path):
        app = json.load(open(path))
        r = S.post(ID + '/auth/tokens', json={'auth': {'identity': {
            'methods': ['application_credential'], 'application_credential': app}}})
        if r.status_code != 201:
            app = None
    if not app:
        u = '%s/users/%s/application_credentials' % (ID, info['user']['id'])
        for old in call('GET', u, tok)['application_credentials']:
            if old['name'] == 'undersail':
                call('DELETE', u + '/' + old['id'], tok)
        r = call('POST', u, tok, json={'application_credential': {'name': 'undersail'}})['application_credential']
        app = {'id': r['id'], 'secret': r['secret']}
        json.dump(app, open(path, 'w'))

    def block(name, user, password, project):
        return ('  %s:\n    auth_type: password\n    region_name: RegionOne\n    identity_api_version: 3\n    auth:\n      auth_url: %s\n'
                '      username: %s\n      password: %s\n      project_name: %s\n      user_domain_name: Default\n'
                '      project_domain_name: Default\n' % (name, ID, user, password, project))
    with open(DIR + '/clouds.yaml', 'w') as f:
        f.write('clouds:\n' + block('admin', 'admin', os.environ['ADMIN_PW'], 'admin') + block('harbour', 'sailor', pw, 'harbour')
                + block('empty', 'sailor', pw, 'empty')
                + '  harbour-app:\n    auth_type: v3applicationcredential\n    region_name: RegionOne\n    auth:\n      auth_url: %s\n'
                  '      application_credential_id: %s\n      application_credential_secret: %s\n' % (ID, app['id'], app['secret']))
    with open(DIR + '/credentials.env', 'w') as f:
        f.write(''.join('export %s=%s\n' % kv for kv in (
            ('OS_AUTH_URL', ID), ('OS_REGION_NAME', 'RegionOne'), ('OS_USERNAME', 'sailor'), ('OS_PASSWORD', pw),
            ('OS_PROJECT_NAME', 'harbour'), ('OS_USER_DOMAIN_NAME', 'Default'), ('OS_PROJECT_DOMAIN_NAME', 'Default'),
            ('REAL_CLOUD_APP_ID', app['id']), ('REAL_CLOUD_APP_SECRET', app['secret']), ('REAL_CLOUD_ADMIN_PASSWORD', os.environ['ADMIN_PW']))))


{'identity': identity, 'cloud': cloud}[sys.argv[1]]()
