import { Component, type ReactNode } from "react";
import { Button } from "./controls";

/** What of a page breaks is said in its place; the rest of the console goes on. Another address tries anew. */
export class Boundary extends Component<{ where: string; children: ReactNode }, { broke?: Error; where: string }> {
  state: { broke?: Error; where: string } = { where: this.props.where };

  static getDerivedStateFromError(broke: Error) {
    return { broke };
  }

  static getDerivedStateFromProps(props: { where: string }, state: { where: string }) {
    return props.where === state.where ? null : { broke: undefined, where: props.where };
  }

  render() {
    if (!this.state.broke) return this.props.children;
    return (
      <div role="alert" className="max-w-xl border-l-4 border-stop bg-sheet px-4 py-3">
        <h1 className="mb-1">This page broke</h1>
        <p className="mb-2">
          What was saved is safe. Load it again; if it breaks again, tell whoever looks after the service:{" "}
          <span className="code">{this.state.broke.message}</span>
        </p>
        <Button onClick={() => location.reload()}>Load it again</Button>
      </div>
    );
  }
}
