import { Button } from "antd";
import dayjs from "dayjs";
import { Component, useEffect, useState, type ReactNode } from "react";
import { Refusal } from "../api/client";
import { Icon, Mark } from "./icons";

/** Bars stand for rows that are still loading, from 300 ms on. */
export function Bars({ rows = 4, label }: { rows?: number; label: string }) {
  const [late, setLate] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setLate(true), 300);
    return () => clearTimeout(timer);
  }, []);
  return (
    <div className="bars" role="status" aria-label={label}>
      {late && Array.from({ length: rows }, (_, i) => <span key={i} />)}
    </div>
  );
}

export function Empty(props: { title: string; text: string; children?: ReactNode }) {
  return (
    <div className="state">
      <Mark />
      <b>{props.title}</b>
      <p className="second">{props.text}</p>
      <div className="state-actions">{props.children}</div>
    </div>
  );
}

/** Failed says what failed, what is still safe, and how to go on. */
export function Failed(props: { what: string; error: unknown; retry?: () => void; after?: string }) {
  const refusal = props.error instanceof Refusal ? props.error : null;
  return (
    <div className="state state-error" role="alert">
      <h2>
        <Icon name="close" /> {props.what}
      </h2>
      <p>
        {refusal
          ? `${refusal.problem.title}. ${refusal.problem.detail} ${refusal.problem.hint}`
          : String(props.error)}
      </p>
      {refusal && (
        <p className="small quiet">
          {refusal.problem.request_id && `Request ${refusal.problem.request_id}, `}
          {dayjs(refusal.at).format("HH:mm:ss")}
        </p>
      )}
      {props.after && <p className="small second">{props.after}</p>}
      {props.retry && <Button onClick={props.retry}>Try again</Button>}
    </div>
  );
}

/** Boundary keeps an error of one page from taking the rest along. */
export class Boundary extends Component<{ children: ReactNode }, { error: unknown }> {
  override state = { error: null as unknown };
  static getDerivedStateFromError(error: unknown) {
    return { error };
  }
  override render() {
    if (this.state.error === null) return this.props.children;
    return (
      <Failed
        what="This page could not be displayed."
        error={this.state.error}
        retry={() => this.setState({ error: null })}
      />
    );
  }
}
