// Adds the libraries that the pages were built with to the list of the service's parts (CycloneDX, JSON).
import { readFileSync } from 'node:fs';

const [service, lock, epoch] = process.argv.slice(2);
const all = JSON.parse(readFileSync(service, 'utf8'));
for (const [path, found] of Object.entries(JSON.parse(readFileSync(lock, 'utf8')).packages)) {
  if (!path.startsWith('node_modules/') || found.dev || found.link || found.optional) continue;
  const name = found.name ?? path.slice(path.lastIndexOf('node_modules/') + 'node_modules/'.length);
  const purl = `pkg:npm/${name.replace('@', '%40')}@${found.version}`;
  const part = { type: 'library', 'bom-ref': purl, name, version: found.version, purl };
  if (found.license) part.licenses = [{ expression: found.license }];
  all.components.push(part);
}
all.components.sort((a, b) => (a['bom-ref'] < b['bom-ref'] ? -1 : 1));
all.metadata.timestamp = new Date(Number(epoch) * 1000).toISOString();
delete all.serialNumber;
console.log(JSON.stringify(all, null, 1));
