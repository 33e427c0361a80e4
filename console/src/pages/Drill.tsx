import { useState } from 'react';
import { Link, useParams } from 'react-router';
import styled from 'styled-components';
import { useMay } from '../data/access';
import type { Problem, Schemas } from '../data/client';
import { day, moment, plural } from '../data/format';
import { beginDrill, lasting, underWay, useDrill, type Drill } from '../data/foresee';
import { Bar, Button, Plain, Scroll } from '../parts/Controls';
import { Empty, Failure, Loading } from '../parts/States';
import { color, space } from '../theme/tokens';
import { Standing } from './Mandates';

const Title = styled.h1`overflow-wrap: anywhere; margin-bottom: ${space(4)};`;

const Told = styled.p`margin-top: ${space(3)};`;

const Part = styled.section`margin-top: ${space(7)}; h2 { font-size: 20px; margin-bottom: ${space(3)}; } td { overflow-wrap: anywhere; } .late { color: ${color.oxide}; font-weight: 600; }`;

const things = { ca: 'the CA', certificate: 'the certificate', key: 'the key of' } as const;

/** How a drill stands: a kind for its colour, and a sentence. */
function drillStanding(d: Drill): [string, string] {
  const own = d.work.filter((w) => !w.person);
  const state = (s: string) => own.filter((w) => w.state === s).length;
  if (!d.begun_at) {
    const late = d.late > 0 ? `; ${d.late} of them later than the ${d.hours} h there are` : `, within the ${d.hours} h there are`;
    return [d.late > 0 ? 'failed' : 'never', own.length === 0 ? 'Nothing of it is replaced by itself' : `${plural(own.length, 'certificate')} would be replaced after ${lasting(d.done)}${late}`];
  }
  const how = d.rehearsal ? 'rehearsed' : 'replaced';
  if (underWay(d)) return ['running', `${state('done')} of ${own.length} ${how}, the rest is under way`];
  const bad = state('failed') + state('left');
  return bad > 0 ? ['failed', `${state('done')} of ${own.length} ${how}; ${bad} not`] : ['fine', `All ${own.length} ${how}`];
}

export function DrillPage() {
  const number = Number(useParams().number);
  const q = useDrill(number);
  if (q.isPending) return <Loading />;
  if (q.isError) return (q.error as Problem).status === 404 ? <Empty page title="No such drill"><p>{(q.error as Problem).detail}. <Link to="/foresee">See all drills</Link>.</p></Empty> : <Failure error={q.error} retry={() => void q.refetch()} />;
  const d = q.data;
  const [kind, text] = drillStanding(d);
  const own = d.work.filter((w) => !w.person);
  const persons = d.work.filter((w) => w.person);
  return (
    <>
      <Title>Drill {d.number}: {things[d.kind]} {d.what} is gone</Title>
      <Standing $kind={kind} aria-live="polite">{text}{d.persons > 0 && `; ${d.persons} ${d.persons === 1 ? 'is' : 'are'} for a person`}.</Standing>
      <Told>Planned {moment(d.at)} by {d.by}{d.begun_at && `; ${d.rehearsal ? 'rehearsed' : 'begun'} ${moment(d.begun_at)} by ${d.begun_by}`}. {d.by_ca.map((c) => `${c.ca} gives ${c.certificates}`).join(', ')}{d.by_ca.length > 0 && '.'}</Told>
      <Acts d={d} />
      {own.length > 0 && (
        <Part aria-label="Order of work">
          <h2>In this order, the worst first</h2>
          <Work list={own} hours={d.hours} begun={d.begun_at !== undefined} />
        </Part>
      )}
      {persons.length > 0 && (
        <Part aria-label="For people">
          <h2>For people</h2>
          <Scroll tabIndex={0} role="region" aria-label="List of what is for people">
            <Plain>
              <thead><tr><th>Mandate or host</th><th>Seen at</th><th>Why somebody has to do it</th></tr></thead>
              <tbody>{persons.map((w) => <tr key={w.mandate}><td>{w.mandate}</td><td>{plural(w.bindings, 'binding')}</td><td>{w.person}</td></tr>)}</tbody>
            </Plain>
          </Scroll>
        </Part>
      )}
    </>
  );
}

function Work({ list, hours, begun }: { list: Schemas['DrillWork'][]; hours: number; begun: boolean }) {
  return (
    <Scroll tabIndex={0} role="region" aria-label="List of the work">
      <Plain>
        <thead><tr><th>Mandate</th><th>Seen at</th><th>Ends by itself</th><th>Then from</th><th>There after</th>{begun && <th>State</th>}</tr></thead>
        <tbody>
          {list.map((w) => (
            <tr key={w.mandate}>
              <td><Link to={`/mandates/${w.mandate}`}>{w.mandate}</Link></td><td>{plural(w.bindings, 'binding')}</td><td className="n">{day(w.ends)}</td><td>{w.ca}</td>
              <td className={w.seconds > hours * 3600 ? 'late' : ''}>{lasting(w.seconds)}</td>
              {begun && <td className={['failed', 'left'].includes(w.state) ? 'late' : ''}>{w.order ? <Link to={`/mandates/${w.mandate}?order=${w.order}`}>{w.state}</Link> : w.state}{w.words && `: ${w.words}`}</td>}
            </tr>
          ))}
        </tbody>
      </Plain>
    </Scroll>
  );
}

/** Rehearse what is planned, or do it. */
function Acts({ d }: { d: Drill }) {
  const may = useMay('admin');
  const [busy, setBusy] = useState(false);
  const [says, setSays] = useState('');
  const own = d.work.filter((w) => !w.person).length;
  if (!may || d.begun_at || own === 0) return null;
  const begin = (rehearsal: boolean) => {
    setBusy(true);
    setSays('');
    void beginDrill(d.number, rehearsal).catch((e: unknown) => { const p = e as Partial<Problem>; setSays([p.detail ?? 'the service does not answer', p.next].filter(Boolean).join('; ')); }).finally(() => setBusy(false));
  };
  return (
    <>
      <Bar>
        <Button $main isDisabled={busy} onPress={() => begin(true)}>Rehearse at test directories</Button>
        <Button isDisabled={busy} onPress={() => { if (confirm(`Order ${plural(own, 'certificate')} now, and install them?`)) begin(false); }}>Do it</Button>
      </Bar>
      {says && <Standing as="p" role="alert" $kind="failed">{says}</Standing>}
    </>
  );
}
