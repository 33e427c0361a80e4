import { Link } from 'react-router';
import type { Schemas } from '../data/client';
import { moment } from '../data/format';
import { StepList } from './Steps';

const marks = { open: '…', done: '✓', failed: '✗' } as const;

/** How a certificate came from its order to where it is seen, link by link. */
export function Trail({ entries }: { entries: Schemas['TrailEntry'][] }) {
  return (
    <StepList>
      {entries.map((e, i) => (
        <li key={i} className={e.outcome}>
          <span role="img" aria-label={e.outcome}>{marks[e.outcome]}</span>
          <strong>{e.installation ? <Link to={`/installations/${e.installation}`}>{e.step}</Link> : e.step}</strong>
          <div><p>{e.where}{'\n'}{e.words}</p><small>{e.at ? moment(e.at) : 'open'}</small></div>
        </li>
      ))}
    </StepList>
  );
}

/** A visitor's way to each name, step by step. */
export function Visits({ visits }: { visits: Schemas['VisitList'] }) {
  return visits.items.map((v) => (
    <section key={v.host} aria-label={`Visit to ${v.host}`}>
      <h3>{v.host}</h3>
      <StepList>
        {v.steps.map((s, i) => (
          <li key={i} className={s.fine ? 'done' : 'failed'}>
            <span role="img" aria-label={s.fine ? 'well' : 'not well'}>{s.fine ? '✓' : '✗'}</span>
            <strong>{s.step}</strong>
            <div><p>{s.seen}</p>{s.do && <p>→ {s.do}</p>}{s.endpoint && <small>{s.endpoint}</small>}</div>
          </li>
        ))}
      </StepList>
    </section>
  ));
}
