import styled from 'styled-components';
import type { Severity as Name } from '../data/client';
import { color, font } from '../theme/tokens';

const marks: Record<Name, string> = { broken: '✗', due: '◷', weak: '△', note: '·' };

const Tag = styled.span<{ $name: Name }>`
  font: 600 14px ${font.sign}; white-space: nowrap;
  color: ${(p) => ({ broken: color.oxide, due: color.brass, weak: color.ink, note: color.soft })[p.$name]};
`;

/** A severity by shape, word and colour. */
export function Severity({ name }: { name: Name }) {
  return <Tag $name={name}><span aria-hidden="true">{marks[name]} </span>{name}</Tag>;
}
