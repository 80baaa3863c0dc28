/** The remedies of the closed list of causes, for a whole batch; a single server's panel has the server's own words. */
export const CAUSES: Record<string, string> = {
  unreachable: "Check cable, address and power of their controllers; then read them again.",
  refused: "Nothing listens there. A controller that restarts answers again in a few minutes.",
  "certificate changed": "Compare each fingerprint with the controller itself before it is accepted.",
  "certificate invalid": "Not from the fleet's authority. Compare each fingerprint with the controller itself before it is accepted.",
  "signed out": "User or password is wrong. Select them and enter the present ones.",
  "no credentials": "No password is kept for them. Select them and enter user and password.",
  "no permission": "Their account may not do that. Use one that may update firmware.",
  "too slow": "They did not answer in time. Read them again later.",
  "malformed answer": "They answered with something that is not valid Redfish. If it stays, restart the controller.",
  "not Redfish": "Something else answers at these addresses.",
  "not allowed": "Their addresses are outside the networks this house allows.",
  "said no": "The controllers refused the request.",
  "our error": "Ordnung met an error of its own with their answers. Tell those who keep it, with the log.",
  busy: "They asked to be left alone for now. Read them again later.",
};
