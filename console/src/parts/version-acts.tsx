import { Button, HStack, Text, VStack } from "@chakra-ui/react";
import { useState } from "react";
import { Link as RouterLink } from "react-router";
import { api, call, type Version } from "../api";
import { Preview } from "../preview";
import { useSigned } from "../session";
import { Act, FormDialog } from "../ui";
import { Check, useWritten, WrittenFields } from "./fields";
import { useLeaves } from "./leaves";

/** What can be done with a version now. */
export function VersionActs({ version: v }: { version: Version }) {
  const { may } = useSigned();
  const at = { path: { image: v.image, number: v.number } };
  const [leaves, seen] = useLeaves();
  const post = (act: "bar" | "unblock" | "retire") => (reason: string) =>
    call(api.POST(`/api/v1/images/{image}/versions/{number}/${act}`, { params: at, body: { reason } }));
  const usable = v.state === "sealed" && !v.barred;
  return (
    <HStack gap="1" wrap="wrap">
      {!!v.software && !v.standing.includes("live") && (
        <Button asChild size="xs" variant="outline">
          <RouterLink to={`/images/${v.image}/compare/${v.number}`}>Compare</RouterLink>
        </Button>
      )}
      {may("operator") && usable && !v.standing.includes("pilot") && (
        <Act
          label="Stage"
          title={`Stage ${v.number}`}
          reason="wanted"
          run={(reason) =>
            call(
              api.POST("/api/v1/images/{image}/versions/{number}/stage", {
                params: at,
                body: { reason, leaves: leaves.current },
              }),
            )
          }
          done={`Pilot names ${v.number}.`}
        >
          <Preview of={{ act: "stage", image: v.image, number: v.number }} onSeen={seen} />
        </Act>
      )}
      {may("operator") && usable && v.copies.some((c) => c.state === "failed") && (
        <Act
          label="Deliver again"
          title={`Deliver ${v.number} again`}
          done="The copies are on their way."
          run={() => call(api.POST("/api/v1/images/{image}/versions/{number}/deliver", { params: at }))}
        >
          {v.copies
            .filter((c) => c.state === "failed")
            .map((c) => (
              <Text key={`${c.site} ${c.ordinal}`}>
                {c.site}: {c.failure}
              </Text>
            ))}
        </Act>
      )}
      {may("approver") && usable && !v.standing.includes("live") && <Activate version={v} />}
      {may("operator") && usable && v.standing.includes("pilot") && <SignOff version={v} />}
      {may("approver") && usable && (
        <Act
          label="Bar"
          title={`Bar ${v.number}`}
          reason="needed"
          run={post("bar")}
          done={`${v.number} is barred.`}
          danger
        >
          No host is made from it while it is blocked.
        </Act>
      )}
      {may("approver") && v.state === "sealed" && !!v.barred && (
        <Act
          label="Unblock"
          title={`Unblock ${v.number}`}
          reason="needed"
          run={post("unblock")}
          done={`${v.number} can be used again.`}
        >
          Blocked: {v.barred}
        </Act>
      )}
      {may("operator") && v.state === "sealed" && v.standing.includes("shelved") && v.hosts === 0 && (
        <Act
          label="Retire"
          title={`Retire ${v.number}`}
          reason="wanted"
          run={post("retire")}
          done={`${v.number} is retired.`}
          danger
        >
          <Preview of={{ act: "retire", image: v.image, number: v.number }} />
        </Act>
      )}
      {may("operator") && <Edit version={v} />}
    </HStack>
  );
}

function Activate({ version: v }: { version: Version }) {
  const { may } = useSigned();
  const [letGo, setLetGo] = useState(false);
  const [overrule, setOverrule] = useState(false);
  const [redirect, setRedirect] = useState(false);
  const [leaves, seen] = useLeaves();
  return (
    <Act
      label="Activate"
      title={`Activate ${v.number}`}
      reason={overrule ? "needed" : "wanted"}
      done={`Live names ${v.number}.`}
      run={(reason) =>
        call(
          api.POST("/api/v1/images/{image}/versions/{number}/activate", {
            params: { path: { image: v.image, number: v.number } },
            body: { reason, let_go: letGo, overrule, redirect_rollovers: redirect, leaves: leaves.current },
          }),
        )
      }
    >
      <VStack align="start">
        <Preview
          of={{
            act: "activate",
            image: v.image,
            number: v.number,
            let_go: letGo,
            overrule,
            redirect_rollovers: redirect,
          }}
          onSeen={seen}
        />
        <Check
          checked={!letGo}
          set={(c) => setLetGo(!c)}
          label="Keep the version in use before as the fallback"
        />
        <Check
          checked={redirect}
          set={setRedirect}
          label="Redirect open rollovers that take hosts to another version"
        />
        {may("administrator") && (
          <Check checked={overrule} set={setOverrule} label="Overrule clearance, with a reason" />
        )}
      </VStack>
    </Act>
  );
}

function SignOff({ version: v }: { version: Version }) {
  const run = (yes: boolean) => (comment: string) =>
    call(
      api.POST("/api/v1/images/{image}/versions/{number}/sign-off", {
        params: { path: { image: v.image, number: v.number } },
        body: { yes, comment },
      }),
    );
  return (
    <>
      <Act
        label="Sign: yes"
        title={`Say yes to ${v.number}`}
        reason="wanted"
        reasonLabel="Comment"
        run={run(true)}
        done="Your yes is recorded."
      />
      <Act
        label="Sign: no"
        title={`Say no to ${v.number}`}
        reason="needed"
        reasonLabel="What was wrong"
        run={run(false)}
        done="Your no is recorded."
        danger
      />
    </>
  );
}

function Edit({ version: v }: { version: Version }) {
  const { written, set, reset, body } = useWritten();
  return (
    <FormDialog
      label="Edit"
      title={`Edit ${v.image} ${v.number}`}
      done="Saved."
      onOpen={() => reset(v)}
      submit={() =>
        call(
          api.PATCH("/api/v1/images/{image}/versions/{number}", {
            params: {
              path: { image: v.image, number: v.number },
              header: { "If-Match": `"${v.revision}"` },
            },
            body: { ...body, clear_end_of_life: !body.end_of_life },
          }),
        )
      }
    >
      <WrittenFields written={written} set={set} />
    </FormDialog>
  );
}
