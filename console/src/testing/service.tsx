import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router";

/** What was asked of the service: method and path below the API, and the body. */
export interface Asked {
  what: string;
  body: unknown;
}

/** A problem that the service answers with. */
export class Problem {
  constructor(
    readonly status: number,
    readonly detail: string,
    readonly advice = "",
  ) {}
}

let answers: Record<string, unknown> = {};
let asked: Asked[] = [];

/** Has the service answer by method and path; what has no answer is a problem. Returns what will be asked. */
export function serve(next: Record<string, unknown>): Asked[] {
  answers = next;
  asked = [];
  return asked;
}

export async function answerTo(request: Request): Promise<Response> {
  const what = `${request.method} ${new URL(request.url).pathname.replace("/api/v1", "")}`;
  const text = await request.text();
  asked.push({ what, body: text ? JSON.parse(text) : undefined });
  const answer = answers[what] ?? new Problem(404, `Nothing answers ${what}.`);
  if (answer instanceof Problem) {
    const { status, detail, advice } = answer;
    return Response.json({ type: "about:blank", title: "", status, code: "internal", detail, advice }, { status });
  }
  return Response.json(answer);
}

/** Shows a part of a page as it is shown in one. */
export function show(part: ReactNode) {
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  return render(
    <QueryClientProvider client={queries}>
      <MemoryRouter>{part}</MemoryRouter>
    </QueryClientProvider>,
  );
}
