import {
  Alert,
  Badge,
  Box,
  Button,
  type ButtonProps,
  CloseButton,
  createToaster,
  Dialog,
  Field,
  Flex,
  Heading,
  HStack,
  Link,
  Portal,
  Spinner,
  Table,
  Text,
  Textarea,
  VStack,
} from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { type ReactNode, useEffect, useState } from "react";
import { Link as RouterLink } from "react-router";
import { Refusal } from "./api";
import { pieces } from "./format";
import { type Stated, tints } from "./panes";

export const toaster = createToaster({ placement: "bottom-end", pauseOnPageIdle: true });

/** A text whose dates and names of hosts are not broken over lines. */
export function Words({ children }: { children: string }) {
  return pieces(children).map((piece, i) =>
    i % 2 === 0 ? (
      piece
    ) : (
      // biome-ignore lint/suspicious/noArrayIndexKey: pieces have nothing else
      <Box as="span" key={i} whiteSpace="nowrap">
        {piece}
      </Box>
    ),
  );
}

/** The frame of every page: a title, what can be done, and what there is. */
export function Page(props: { title: string; lead?: ReactNode; actions?: ReactNode; children: ReactNode }) {
  useEffect(() => {
    document.title = `${props.title} · Nimble Pane`;
  }, [props.title]);
  return (
    <Box px="6" py="5" maxW="1500px">
      <Flex justify="space-between" align="start" gap="4" mb="4" wrap="wrap">
        <Box>
          <Heading as="h1" size="xl" fontWeight="600">
            {props.title}
          </Heading>
          {props.lead && (
            <Box color="fg.quiet" mt="1">
              {props.lead}
            </Box>
          )}
        </Box>
        {props.actions && <HStack wrap="wrap">{props.actions}</HStack>}
      </Flex>
      {props.children}
    </Box>
  );
}

export function Panel(props: { title?: string; aside?: ReactNode; children: ReactNode }) {
  return (
    <Box
      as="section"
      bg="bg.panel"
      borderWidth="1px"
      borderColor="line"
      rounded="md"
      mb="4"
      overflow="hidden"
    >
      {props.title && (
        <Flex px="4" pt="3" pb="2" justify="space-between" align="baseline" gap="3" wrap="wrap">
          <Heading as="h2" size="sm" fontWeight="600">
            {props.title}
          </Heading>
          <Box color="fg.quiet" fontSize="sm">
            {props.aside}
          </Box>
        </Flex>
      )}
      <Box px="4" pb="4" pt={props.title ? "0" : "4"}>
        {props.children}
      </Box>
    </Box>
  );
}

export function Loading() {
  return (
    <HStack p="8" color="fg.quiet" role="status">
      <Spinner size="sm" /> <Text>Loading</Text>
    </HStack>
  );
}

export function Empty({ children }: { children: ReactNode }) {
  return (
    <Text color="fg.quiet" py="5">
      {children}
    </Text>
  );
}

/** What a page says of a thing that only an estate file makes. */
export function NoneYet({ of }: { of: "image" | "pool" | "site" }) {
  return (
    <Empty>
      There is no {of} yet. Load an <To to="/estate">estate file</To>.
    </Empty>
  );
}

/** Why something is refused, within an alert. */
export function Reasons({ of: reasons }: { of: string[] }) {
  return (
    reasons.length > 0 && (
      <Alert.Description>
        <Box as="ul" ps="4" listStyleType="disc">
          {reasons.map((r) => (
            <li key={r}>
              <Words>{r}</Words>
            </li>
          ))}
        </Box>
      </Alert.Description>
    )
  );
}

/** Says what went wrong, and why. */
export function Problem({ error }: { error: Error }) {
  return (
    <Alert.Root status="error" variant="surface" my="3" role="alert">
      <Alert.Indicator />
      <Alert.Content>
        <Alert.Title>
          <Words>{error.message}</Words>
        </Alert.Title>
        {error instanceof Refusal && <Reasons of={error.reasons} />}
      </Alert.Content>
    </Alert.Root>
  );
}

/** Shows a query's data, or that it loads, or what went wrong. */
export function Shown<T>(props: {
  query: { data?: T; error: Error | null; isPending: boolean };
  children: (data: T) => ReactNode;
}) {
  const { data, error, isPending } = props.query;
  if (data !== undefined) return <>{props.children(data)}</>;
  if (isPending) return <Loading />;
  return error && <Problem error={error} />;
}

export function To({ to, children }: { to: string; children: ReactNode }) {
  return (
    <Link asChild color="deep.fg" fontWeight="500" textDecoration="underline" textUnderlineOffset="2px">
      <RouterLink to={to}>{children}</RouterLink>
    </Link>
  );
}

/** A state, in words on a tint. */
export function State({ of }: { of: Stated }) {
  return (
    <Badge colorPalette={tints[of]} variant="surface" size="sm">
      {of}
    </Badge>
  );
}

/** A table with a name for those who cannot see it. */
export function List(props: { label: string; head: string[]; children: ReactNode }) {
  return (
    // On a narrow screen it scrolls, with the keyboard too.
    <Table.ScrollArea tabIndex={0} role="region" aria-label={props.label}>
      <Table.Root
        size="sm"
        aria-label={props.label}
        css={{
          "& td, & th": { px: "2", borderColor: "line" },
          "& tbody": { whiteSpace: "normal" },
          "& tr": { bg: "transparent" },
        }}
      >
        <Table.Header>
          <Table.Row>
            {props.head.map((h) => (
              <Table.ColumnHeader key={h} color="fg.quiet" fontWeight="500">
                {h}
              </Table.ColumnHeader>
            ))}
          </Table.Row>
        </Table.Header>
        <Table.Body>{props.children}</Table.Body>
      </Table.Root>
    </Table.ScrollArea>
  );
}

/** Names and values below each other. */
export function Facts({ of }: { of: [string, ReactNode][] }) {
  return (
    <Box
      as="dl"
      display="grid"
      gridTemplateColumns={{ base: "minmax(0, 1fr)", sm: "max-content minmax(0, 1fr)" }}
      columnGap="5"
      rowGap="1"
    >
      {of
        .filter(([, value]) => value !== "" && value !== undefined && value !== null && value !== false)
        .map(([name, value]) => (
          <Box key={name} display="contents">
            <Box as="dt" color="fg.quiet">
              {name}
            </Box>
            <Box as="dd" overflowWrap="anywhere">
              {typeof value === "string" ? <Words>{value}</Words> : value}
            </Box>
          </Box>
        ))}
    </Box>
  );
}

type FormProps = {
  /** What stands on the button that opens the dialog, and on the one that acts, unless that says more. */
  label: string;
  actLabel?: string;
  title: string;
  children?: ReactNode;
  submit: () => Promise<unknown>;
  /** What is said when it is done. */
  done?: string;
  danger?: boolean;
  /** There is a table in it. */
  wide?: boolean;
  button?: ButtonProps;
  onOpen?: () => void;
};

/** A button that opens a dialog with a form, which stays open for as long as the service refuses it. */
export function FormDialog(props: FormProps) {
  const [open, setOpen] = useState(false);
  const act = useMutation({
    mutationFn: props.submit,
    onSuccess: () => {
      setOpen(false);
      if (props.done) toaster.create({ title: props.done, type: "success" });
    },
  });
  return (
    <Dialog.Root
      size={props.wide ? "xl" : "md"}
      lazyMount
      unmountOnExit
      open={open}
      onOpenChange={(e) => {
        setOpen(e.open);
        act.reset();
        if (e.open) props.onOpen?.();
      }}
    >
      <Dialog.Trigger asChild>
        <Button size="xs" variant="outline" {...props.button}>
          {props.label}
        </Button>
      </Dialog.Trigger>
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner>
          <Dialog.Content>
            <form
              onSubmit={(e) => {
                e.preventDefault();
                e.stopPropagation();
                act.mutate();
              }}
            >
              <Dialog.Header>
                <Dialog.Title>{props.title}</Dialog.Title>
              </Dialog.Header>
              <Dialog.Body>
                <VStack align="stretch" gap="3">
                  {props.children}
                  {act.error && <Problem error={act.error} />}
                </VStack>
              </Dialog.Body>
              <Dialog.Footer>
                <Dialog.ActionTrigger asChild>
                  <Button variant="ghost">Cancel</Button>
                </Dialog.ActionTrigger>
                <Button type="submit" colorPalette={props.danger ? "red" : "deep"} loading={act.isPending}>
                  {props.actLabel ?? props.label}
                </Button>
              </Dialog.Footer>
            </form>
            <Dialog.CloseTrigger asChild>
              <CloseButton size="sm" />
            </Dialog.CloseTrigger>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}

type ActProps = Omit<FormProps, "submit" | "onOpen"> & {
  /** Asks for a reason: "wanted" may stay empty, "needed" may not. */
  reason?: "wanted" | "needed";
  reasonLabel?: string;
  run: (reason: string) => Promise<unknown>;
};

/** A button that asks before it acts, mostly for a reason. */
export function Act({ reason: asked, reasonLabel, run, children, ...form }: ActProps) {
  const [reason, setReason] = useState("");
  return (
    <FormDialog {...form} submit={() => run(reason.trim())} onOpen={() => setReason("")}>
      {children && <Box>{children}</Box>}
      {asked && (
        <Field.Root required={asked === "needed"}>
          <Field.Label>{reasonLabel ?? "Reason"}</Field.Label>
          <Textarea value={reason} onChange={(e) => setReason(e.target.value)} rows={2} maxLength={2000} />
        </Field.Root>
      )}
    </FormDialog>
  );
}
