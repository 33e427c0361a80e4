import { Component, type ReactNode } from 'react';
import { Failure } from './States';

/** Catches what a page throws, such as a part of the console that cannot be loaded. */
export class Boundary extends Component<{ children: ReactNode }, { failed: boolean }> {
  state = { failed: false };

  static getDerivedStateFromError() {
    return { failed: true };
  }

  render() {
    return this.state.failed ? <Failure error={undefined} retry={() => location.reload()} /> : this.props.children;
  }
}
