import { useEffect } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { api, type Schemas } from '../data/client';
import { moment } from '../data/format';
import { Bar, Pick } from '../parts/Controls';
import { Empty, Failure, Loading } from '../parts/States';
import { color, font, space } from '../theme/tokens';

type File = Schemas['ConfigurationFile'];

const Text = styled.ol`
  list-style: none; margin: ${space(3)} 0 0; padding: ${space(3)} 0; background: ${color.raised}; border: 1px solid ${color.line}; font: 14px/1.55 ${font.mono}; overflow-x: auto;
  li { display: grid; grid-template-columns: 64px minmax(0, 1fr); }
  li > a { color: ${color.soft}; text-align: right; padding-right: ${space(4)}; text-decoration: none; } li > a:hover { text-decoration: underline; }
  pre { margin: 0; font: inherit; white-space: pre-wrap; overflow-wrap: anywhere; padding-right: ${space(3)}; }
  .mark { grid-column: 2; font: 14px/1.45 ${font.text}; color: ${color.soft}; padding: 0 ${space(3)} ${space(1)} 0; } .mark::before { content: '↳ '; }
  .mark.problem { color: ${color.oxide}; font-weight: 600; } .mark.problem::before { content: '✗ '; }
  li.here { background: ${color.sunk}; box-shadow: inset 4px 0 ${color.brassFill}; }
`;

/** A file of a server's configuration as it was read, with remarks to its lines. */
export function ServerText() {
  const { name = '' } = useParams();
  const [params, setParams] = useSearchParams();
  const server = api.useQuery('get', '/servers/{name}', { params: { path: { name } } });
  const files = server.data?.files ?? [];
  const path = params.get('path') ?? files[0]?.path ?? '';
  const text = api.useQuery('get', '/servers/{name}/file', { params: { path: { name }, query: { path } } }, { enabled: path !== '', retry: false });
  if (server.isPending) return <Loading />;
  if (server.isError) return <Failure error={server.error} retry={() => void server.refetch()} />;
  if (files.length === 0) return <Empty page title="Not read"><p>The configuration of {name} is not known. <Link to={`/servers/${encodeURIComponent(name)}`}>See why</Link>.</p></Empty>;
  const list: [string, string][] = files.map((f) => [f.path, f.in_force ? f.path : `${f.path} (not switched on)`]);
  return (
    <>
      <h1><Link to={`/servers/${encodeURIComponent(name)}`}>{name}</Link>, configuration text</h1>
      <Bar><Pick label="File" value={path} options={list} onChange={(v) => setParams({ path: v }, { replace: true })} /></Bar>
      {text.isPending ? <Loading rows={8} /> : text.isError ? <Failure error={text.error} retry={() => void text.refetch()} /> : <Lines file={text.data} line={Number(params.get('line') ?? 0)} />}
    </>
  );
}

function Lines({ file, line }: { file: File; line: number }) {
  useEffect(() => {
    if (line > 0) document.getElementById(`L${line}`)?.scrollIntoView({ block: 'center' });
  }, [line, file.path]);
  const marks = new Map<number, Schemas['LineMark'][]>();
  for (const m of file.marks) marks.set(m.line, [...(marks.get(m.line) ?? []), m]);
  const lines = file.text.replace(/\n$/, '').split('\n');
  return (
    <>
      <p>
        {file.in_force ? 'In force' : <strong>Not switched on</strong>}{file.link && <>, a link to <code>{file.link}</code></>}{file.modified && `, written ${moment(file.modified)}`}.
        Values that look like secrets are hidden.
      </p>
      <Text aria-label={file.path}>
        {lines.map((text, i) => (
          <li key={i} id={`L${i + 1}`} className={i + 1 === line ? 'here' : ''}>
            <Link to={`?path=${encodeURIComponent(file.path)}&line=${i + 1}`} replace aria-label={`Line ${i + 1}`}>{i + 1}</Link>
            <pre>{text || ' '}</pre>
            {marks.get(i + 1)?.map((m) => <p key={m.kind + m.text} className={`mark ${m.kind}`}>{m.text}</p>)}
          </li>
        ))}
      </Text>
    </>
  );
}
