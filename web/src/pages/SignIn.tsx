import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Button, Form } from "react-bootstrap";
import { useNavigate } from "react-router";
import { api, must } from "../api";
import { Trouble } from "../parts";

/** SignIn lets a person in, or makes the first account by the one-time link. */
export function SignIn({ first }: { first: boolean }) {
  const client = useQueryClient();
  const go = useNavigate();
  const link = window.location.pathname === "/first" ? window.location.hash.slice(1) : "";
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const making = first && link !== "";
  const enter = useMutation({
    mutationFn: () => making
      ? must(api.POST("/api/v1/first-account", { body: { link, name, password } }))
      : must(api.POST("/api/v1/session", { body: { name, password } })),
    onSuccess: async () => {
      if (making) await go("/", { replace: true });
      await client.invalidateQueries();
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    enter.mutate();
  };
  return (
    <main>
      <Form className="entry" onSubmit={submit}>
        <h1>{making ? "Make the first account" : "Sign in to Fado"}</h1>
        {first && !link ? <p className="quiet">There is no account yet. Open the one-time link that the service printed when it was started.</p> : null}
        <Form.Group className="mt-3" controlId="name">
          <Form.Label>Name</Form.Label>
          <Form.Control value={name} onChange={(e) => setName(e.target.value)} autoComplete="username" autoFocus required />
        </Form.Group>
        <Form.Group className="mt-2 mb-3" controlId="password">
          <Form.Label>Password</Form.Label>
          <Form.Control type="password" value={password} onChange={(e) => setPassword(e.target.value)} autoComplete={making ? "new-password" : "current-password"} required />
          {making ? <Form.Text>At least 12 characters; four words and a number do well.</Form.Text> : null}
        </Form.Group>
        <Trouble problem={enter.error} />
        <Button type="submit" disabled={enter.isPending}>{making ? "Make the account" : "Sign in"}</Button>
      </Form>
    </main>
  );
}
