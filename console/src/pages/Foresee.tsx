import { useState } from 'react';
import { Link, useNavigate, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { useMay } from '../data/access';
import type { Schemas } from '../data/client';
import { day, moment, plural } from '../data/format';
import { lasting, planDrill, under, useDrills, useForecast, type Forecast, type Gone } from '../data/foresee';
import { Bar, Choice, Plain, Scroll } from '../parts/Controls';
import { Form, Input } from '../parts/Form';
import { LoadChart } from '../parts/LoadChart';
import { Empty, Failure, Loading } from '../parts/States';
import { color, space } from '../theme/tokens';

const Part = styled.section`
  margin-top: ${space(8)}; h2 { font-size: 20px; margin-bottom: ${space(3)}; } .over { color: ${color.oxide}; font-weight: 600; } p { max-width: 76ch; }
  td { overflow-wrap: anywhere; } tr[aria-current] { background: ${color.sunk}; } small { color: ${color.soft}; } .ask { display: grid; gap: ${space(3)}; margin-top: ${space(5)}; }
`;

/** What is to come: how much is renewed when, and what would be to do if a CA or a key were gone. */
export function Foresee() {
  const q = useForecast();
  if (q.isPending) return <Loading />;
  if (q.isError) return <Failure error={q.error} retry={() => void q.refetch()} />;
  return (
    <>
      <Load list={q.data} />
      <Drills />
      <Part aria-label="What if">
        <h2>What if a CA&apos;s certificate goes away</h2>
        <p>The page of every <Link to="/certificates?kind=ca">root and intermediate</Link> says which hosts break for whom without it, or once an audience drops it.</p>
      </Part>
    </>
  );
}

/** How a forecast stands, in one sentence. */
function sentence(f: Forecast, mandates: number): string {
  const over = f.cas.filter((c) => c.over > 0);
  const carried = over.length > 0 ? `; the budget of ${over.map((c) => c.ca).join(', ')} does not carry it` : f.cas.some((c) => c.budget > 0) ? ', within every declared budget' : '';
  return `${plural(mandates, 'certificate')} that ${mandates === 1 ? 'renews itself' : 'renew themselves'}: ${plural(f.year, 'renewal')} in the coming year, at most ${f.peak} on one day${carried}`;
}

function Load({ list }: { list: Schemas['ForecastList'] }) {
  const [params, setParams] = useSearchParams();
  const limit = params.get('limit') ?? '0';
  const f = list.items.find((v) => String(v.limit) === limit) ?? list.items[0];
  if (!f || list.mandates === 0) return <Empty page title="Nothing renews itself yet"><p>Once a <Link to="/mandates">mandate</Link> has a certificate, this page says how much is renewed when, for two years.</p></Empty>;
  const set = (v: string) => setParams((p) => { if (v === '0') p.delete('limit'); else p.set('limit', v); return p; }, { replace: true });
  return (
    <>
      <h1>{sentence(f, list.mandates)}</h1>
      <Bar><Choice label="Under which limit of lives" value={String(f.limit)} options={list.items.map((v): [string, string] => [String(v.limit), v.limit === 0 ? under(v) : `If lives end at ${under(v)}`])} onChange={set} /></Bar>
      <LoadChart from={list.from} days={f.days} peakOn={f.peak_on} />
      <Part aria-label="Under each limit">
        <h2>Under each limit, and what each CA has to give</h2>
        <Scroll tabIndex={0} role="region" aria-label="List of limits and CAs">
          <Plain>
            <thead><tr><th>Public certificates live at most</th><th>CA</th><th>In the coming year</th><th>The most</th><th>Its budget</th></tr></thead>
            <tbody>{list.items.flatMap((v) => v.cas.map((c, i) => (
              <tr key={`${v.limit} ${c.ca}`} {...(v.limit === f.limit ? { 'aria-current': true } : {})}>
                {i === 0 && <td rowSpan={v.cas.length}>{under(v)}<br /><small>{v.year} in all, at most {v.peak} on one day</small></td>}
                <td>{c.ca}</td><td>{c.year}</td>
                <td>{c.most} {c.span > 1 ? `in ${c.span} days, from ${day(c.most_from)}` : `on ${day(c.most_from)}`}</td>
                <td>{c.budget === 0 ? 'not declared' : c.over > 0 ? <span className="over">{c.budget} in {plural(c.span, 'day')}: not enough on {plural(c.over, 'day')}</span> : `${c.budget} in ${plural(c.span, 'day')}: enough`}</td>
              </tr>
            )))}</tbody>
          </Plain>
        </Scroll>
        <p>Renewals move within their windows to where little is to do: what is left over is the load that cannot be moved away.</p>
      </Part>
    </>
  );
}

const gone: [Gone, string][] = [['ca', 'A CA'], ['certificate', 'A certificate, or a CA\'s'], ['key', 'A key']];

/** Plans for the day a CA, a certificate or a key is gone. */
function Drills() {
  const q = useDrills();
  return (
    <Part aria-label="Drills">
      <h2>If a CA, an intermediate or a key is gone</h2>
      <p>A drill says what would be replaced in which order, from where, how long that takes here, and what is for people. Nothing is ordered by planning it.</p>
      {q.isError && <Failure what="The drills" error={q.error} retry={() => void q.refetch()} />}
      {q.data && q.data.items.length > 0 && (
        <Scroll tabIndex={0} role="region" aria-label="List of drills">
          <Plain>
            <thead><tr><th>Drill</th><th>Gone</th><th>Planned</th><th>Replaced after</th><th>For people</th><th>Begun</th></tr></thead>
            <tbody>{q.data.items.map((d) => (
              <tr key={d.number}>
                <td><Link to={`/drills/${d.number}`}>{d.number}</Link></td><td>{d.kind} {d.what}, within {d.hours} h</td><td className="n">{moment(d.at)}, {d.by}</td>
                <td>{lasting(d.done)}{d.late > 0 && <span className="over"> ({d.late} too late)</span>}</td><td>{d.persons}</td><td>{d.begun_at ? `${moment(d.begun_at)}${d.rehearsal ? ', rehearsed' : ''}` : 'not begun'}</td>
              </tr>
            ))}</tbody>
          </Plain>
        </Scroll>
      )}
      <Plan />
    </Part>
  );
}

function Plan() {
  const may = useMay('operator');
  const go = useNavigate();
  const [kind, setKind] = useState<Gone>('ca');
  if (!may) return null;
  return (
    <div className="ask">
      <Choice label="What is gone" value={kind} options={gone} onChange={(v) => setKind(v as Gone)} />
      <Form label="Plan a drill" act="Plan it" onSend={async (f) => { const d = await planDrill(kind, f('what').trim(), Number(f('hours'))); await go(`/drills/${d.number}`); }}>
        <Input label={kind === 'ca' ? 'Its name' : kind === 'key' ? 'The fingerprint of a certificate that has it' : 'Its fingerprint'} name="what" hint={kind === 'ca' ? 'As the estate declares it under cas.' : 'Or its first 8 or more digits.'} />
        <Input label="Hours there are" name="hours" type="number" value="24" />
      </Form>
    </div>
  );
}
