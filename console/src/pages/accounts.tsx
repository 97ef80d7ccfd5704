import { HStack, Input, NativeSelect, Table, Text } from "@chakra-ui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Account, api, call } from "../api";
import { day } from "../format";
import { Check, Labelled } from "../parts/fields";
import { roles, useSigned } from "../session";
import { FormDialog, List, Page, Panel, Problem, Shown } from "../ui";

type Role = Account["role"];

/** Who may sign in, and what each may do. */
export function AccountsPage() {
  const { may, account: me } = useSigned();
  const accounts = useQuery({
    queryKey: ["accounts"],
    enabled: may("administrator"),
    queryFn: () => call(api.GET("/api/v1/accounts")),
  });
  if (!may("administrator"))
    return (
      <Page title="Accounts">
        <Problem error={new Error("Accounts are seen by administrators only.")} />
      </Page>
    );
  return (
    <Page
      title="Accounts"
      lead="Who may sign in. Each role has the rights of those before it: viewer, operator, approver, administrator."
      actions={<AddAccount />}
    >
      <Panel>
        <Shown query={accounts}>
          {({ items }) => (
            <List label="Accounts" head={["Name", "Person", "Role", "Signs in", "Since", "Acts"]}>
              {items.map((a) => (
                <Table.Row key={a.name}>
                  <Table.Cell fontWeight="500">{a.name}</Table.Cell>
                  <Table.Cell>{a.title}</Table.Cell>
                  <Table.Cell>{a.role}</Table.Cell>
                  <Table.Cell>{a.disabled ? "no, disabled" : "yes"}</Table.Cell>
                  <Table.Cell whiteSpace="nowrap">{day(a.created_at)}</Table.Cell>
                  <Table.Cell>
                    <HStack gap="1" justify="end">
                      <EditAccount account={a} mine={a.name === me.name} />
                    </HStack>
                  </Table.Cell>
                </Table.Row>
              ))}
            </List>
          )}
        </Shown>
      </Panel>
    </Page>
  );
}

function RoleField({ value, set }: { value: Role; set: (r: Role) => void }) {
  return (
    <Labelled label="Role">
      <NativeSelect.Root>
        <NativeSelect.Field value={value} onChange={(e) => set(e.target.value as Role)}>
          {roles.map((r) => (
            <option key={r} value={r}>
              {r}
            </option>
          ))}
        </NativeSelect.Field>
        <NativeSelect.Indicator />
      </NativeSelect.Root>
    </Labelled>
  );
}

function PasswordField(props: {
  label: string;
  value: string;
  set: (p: string) => void;
  required?: boolean;
}) {
  return (
    <Labelled
      label={props.label}
      help="Ten characters or more, and none of the common ones"
      required={props.required}
    >
      <Input
        type="password"
        autoComplete="new-password"
        value={props.value}
        onChange={(e) => props.set(e.target.value)}
      />
    </Labelled>
  );
}

function AddAccount() {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [title, setTitle] = useState("");
  const [role, setRole] = useState<Role>("viewer");
  const [password, setPassword] = useState("");
  return (
    <FormDialog
      label="Add an account"
      actLabel="Add"
      title="Add an account"
      button={{ size: "sm", variant: "solid", colorPalette: "deep" }}
      done={`${name} may sign in.`}
      onOpen={() => {
        setName("");
        setTitle("");
        setRole("viewer");
        setPassword("");
      }}
      submit={async () => {
        await call(api.POST("/api/v1/accounts", { body: { name, title, role, password } }));
        await queries.invalidateQueries({ queryKey: ["accounts"] });
      }}
    >
      <Labelled label="Name" help="Lower-case letters, digits, dots and dashes" required>
        <Input autoComplete="off" value={name} onChange={(e) => setName(e.target.value)} />
      </Labelled>
      <Labelled label="Person">
        <Input value={title} onChange={(e) => setTitle(e.target.value)} />
      </Labelled>
      <RoleField value={role} set={setRole} />
      <PasswordField label="Password" value={password} set={setPassword} required />
    </FormDialog>
  );
}

function EditAccount({ account: a, mine }: { account: Account; mine: boolean }) {
  const queries = useQueryClient();
  const [title, setTitle] = useState(a.title);
  const [role, setRole] = useState(a.role);
  const [disabled, setDisabled] = useState(a.disabled);
  const [password, setPassword] = useState("");
  return (
    <FormDialog
      label="Edit"
      actLabel="Save"
      title={`Edit ${a.name}`}
      done="Saved."
      onOpen={() => {
        setTitle(a.title);
        setRole(a.role);
        setDisabled(a.disabled);
        setPassword("");
      }}
      submit={async () => {
        await call(
          api.PATCH("/api/v1/accounts/{name}", {
            params: { path: { name: a.name } },
            // What is as it was is left out: a change ends sessions, and stands in the trail.
            body: {
              title: title === a.title ? undefined : title,
              role: role === a.role ? undefined : role,
              disabled: disabled === a.disabled ? undefined : disabled,
              password: password || undefined,
            },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["accounts"] });
      }}
    >
      <Labelled label="Person">
        <Input value={title} onChange={(e) => setTitle(e.target.value)} />
      </Labelled>
      {mine ? (
        <Text color="fg.quiet">Your own role is changed by another administrator.</Text>
      ) : (
        <>
          <RoleField value={role} set={setRole} />
          <Check
            checked={disabled}
            set={setDisabled}
            label="Disabled: signs in no more, and every session and token ends"
          />
          <PasswordField label="New password, if it is to change" value={password} set={setPassword} />
        </>
      )}
    </FormDialog>
  );
}
