import { Component, type ReactNode } from "react";
import { Button } from "./Form";

/** What a page of another version says: its code is no longer served. */
const elsewhere = (error: Error) =>
  /dynamically imported module|module script|Importing a module/i.test(error.message);

/** Holds what failed while it was drawn to its own place, says what it was, and lets it be tried again. */
export class Fallen extends Component<{ children: ReactNode; what?: string }, { error: Error | null }> {
  state = { error: null as Error | null };

  static getDerivedStateFromError(error: Error) {
    return { error };
  }

  render() {
    const { error } = this.state;
    if (!error) return this.props.children;
    return (
      <div role="alert" className="mx-6 mt-5 max-w-[760px] border-t border-verm pt-2">
        <p className="text-verm">
          {elsewhere(error)
            ? "The service was renewed while this page was open, and the rest of the page is " +
              "of another version."
            : `${this.props.what ?? "This page"} could not be drawn: ${error.message}.`}
        </p>
        <p className="mt-1 text-ink2">Nothing that was sent is lost.</p>
        {elsewhere(error) ? (
          <Button className="mt-2" onClick={() => window.location.reload()}>
            Load it anew
          </Button>
        ) : (
          <Button className="mt-2" onClick={() => this.setState({ error: null })}>
            Try again
          </Button>
        )}
      </div>
    );
  }
}
