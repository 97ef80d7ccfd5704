import { useQuery } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useRef } from "react";
import { type Account, api, call, Refusal } from "./api";
import { whoIsSignedIn } from "./parts/queries";
import { Loading, Problem } from "./ui";

/** Each has the rights of those before it. */
export const roles: Account["role"][] = ["viewer", "operator", "approver", "administrator"];

type Signed = { account: Account; may: (role: Account["role"]) => boolean; signOut: () => Promise<void> };

const Context = createContext<Signed | null>(null);

/** Who is signed in, and what they may do. */
export function useSigned(): Signed {
  const signed = useContext(Context);
  if (!signed) throw new Error("useSigned is for pages behind the sign-in");
  return signed;
}

/** Shows its children to who is signed in, and the sign-in to others. */
export function Signed({ children, otherwise }: { children: ReactNode; otherwise: ReactNode }) {
  const who = useQuery(whoIsSignedIn);
  const asked = useRef(false); // whether the sign-in was shown
  const name = who.data?.name;
  useEffect(() => {
    if (!name || !asked.current) return;
    asked.current = false;
    document.getElementById("content")?.focus();
  }, [name]);
  if (who.isPending) return <Loading />;
  if (who.error instanceof Refusal && who.error.type === "not-signed-in") {
    asked.current = true;
    return otherwise;
  }
  if (who.error) return <Problem error={who.error} />;
  const account = who.data;
  return (
    <Context
      value={{
        account,
        may: (role) => roles.indexOf(account.role) >= roles.indexOf(role),
        signOut: async () => {
          await call(api.DELETE("/api/v1/session"));
          // Loading the page anew leaves nothing of what was shown behind.
          window.location.assign("/");
        },
      }}
    >
      {children}
    </Context>
  );
}
