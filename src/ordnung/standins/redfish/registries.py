"""The messages a stand-in uses, with their registries (DSP8011): every error and task names one of them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class Registry:
    """One message registry: key to (message with %1…, severity, resolution)."""

    version: str
    messages: dict[str, tuple[str, str, str]]


_CHECK, _NONE = "Correct the request and send it again.", "None."
REGISTRIES: dict[str, Registry] = {
    "Base": Registry(
        "1.18.0",
        {
            "Success": ("The request completed successfully.", "OK", _NONE),
            "GeneralError": ("A general error has occurred: %1", "Critical", _CHECK),
            "ResourceMissingAtURI": ("The resource at the URI %1 was not found.", "Critical", "Place a valid resource at the URI or correct the URI."),
            "NoValidSession": ("There is no valid session established with the implementation.", "Critical", "Establish a session before attempting any operations."),
            "SessionLimitExceeded": ("The session establishment failed due to the number of simultaneous sessions exceeding the limit.", "Critical", "Reduce the number of other sessions before trying to establish the session."),
            "ResourceAtUriUnauthorized": ("While accessing the resource at %1, the service received an authorization error: %2.", "Critical", "Ensure that the appropriate access is provided."),
            "InsufficientPrivilege": ("The account or credentials associated with the current session lack the privileges for the requested operation.", "Critical", "Use an account with the needed privileges."),
            "NoOperation": ("The request body submitted contains no data to act upon, and no changes to the resource took place.", "Warning", "Add properties in the JSON object and resubmit the request."),
            "ActionNotSupported": ("The action %1 is not supported by the resource.", "Critical", "Use a method or action that the service supports."),
            "OperationNotAllowed": ("The HTTP method is not allowed on this resource.", "Critical", "Use one of the methods in the Allow header."),
            "PropertyUnknown": ("The property %1 is not in the list of valid properties for the resource.", "Warning", _CHECK),
            "PropertyNotWritable": ("The property %1 is a read-only property and cannot be assigned a value.", "Warning", _CHECK),
            "PropertyValueTypeError": ("The value %1 for the property %2 is of a different type than the property can accept.", "Warning", _CHECK),
            "PropertyValueNotInList": ("The value %1 for the property %2 is not in the list of acceptable values.", "Warning", _CHECK),
            "PropertyMissing": ("The property %1 is a required property and must be included in the request.", "Warning", _CHECK),
            "ActionParameterMissing": ("The action %1 requires the parameter %2 to be present in the request body.", "Critical", _CHECK),
            "ActionParameterUnknown": ("The action %1 was submitted with the invalid parameter %2.", "Warning", _CHECK),
            "ActionParameterValueNotInList": ("The value %1 for the parameter %2 in the action %3 is not in the list of acceptable values.", "Warning", _CHECK),
            "MalformedJSON": ("The request body submitted was malformed JSON and could not be parsed by the receiving service.", "Critical", _CHECK),
            "UnrecognizedRequestBody": ("The service detected a malformed request body that it was unable to interpret.", "Critical", _CHECK),
            "QueryNotSupported": ("Querying is not supported by the implementation.", "Warning", "Remove the query parameters and resubmit the request."),
            "QueryParameterValueTypeError": ("The value %1 for the query parameter %2 is of a different type than the parameter can accept.", "Warning", _CHECK),
            "QueryParameterOutOfRange": ("The value %1 for the query parameter %2 is out of range %3.", "Warning", _CHECK),
            "PreconditionFailed": ("The ETag supplied did not match the current ETag of the resource.", "Critical", "Read the resource again and try with its present ETag."),
            "PreconditionRequired": ("A precondition header or annotation is required to change this resource.", "Critical", "Read the resource again and name its present ETag."),
            "ServiceTemporarilyUnavailable": ("The service is temporarily unavailable. Retry in %1 seconds.", "Critical", "Wait for the indicated time and try again."),
            "InternalError": ("The request failed due to an internal service error. The service is still operational.", "Critical", "Resubmit the request. If the problem persists, reset the service."),
            "ResourceInUse": ("The change to the requested resource failed because the resource is in use or in transition.", "Warning", "Remove the condition and resubmit the request."),
            "InsufficientStorage": ("Insufficient storage or memory available to complete the request.", "Critical", "Free some room and resubmit the request."),
            "PayloadTooLarge": ("The supplied payload exceeds the maximum size that the service supports.", "Warning", _CHECK),
            "PasswordChangeRequired": ("The password provided for this account must be changed before access is granted.", "Critical", "Change the password."),
            "NotApplicableToTarget": ("The licence for this operation is not installed.", "Critical", "Install a licence."),
        },
    ),
    "Update": Registry(
        "1.1.0",
        {
            key: (text, severity, _NONE)
            for key, text, severity in (
                ("TransferringToComponent", "Image %1 is being transferred to %2.", "OK"),
                ("VerifyingAtComponent", "Image %1 is being verified at %2.", "OK"),
                ("InstallingOnComponent", "Image %1 is being installed on %2.", "OK"),
                ("AwaitToActivate", "Awaiting for an action to proceed with activating image %1 on %2.", "OK"),
                ("UpdateSuccessful", "Device %1 successfully updated with image %2.", "OK"),
                ("TransferFailed", "Transfer of image %1 to %2 failed.", "Critical"),
                ("VerificationFailed", "Verification of image %1 at %2 failed.", "Critical"),
                ("ApplyFailed", "Installation of image %1 to %2 failed.", "Critical"),
            )
        },
    ),
    "TaskEvent": Registry(
        "1.0.3",
        {
            "TaskStarted": ("The task with Id %1 has started.", "OK", _NONE),
            "TaskCompletedOK": ("The task with Id %1 has completed.", "OK", _NONE),
            "TaskAborted": ("The task with Id %1 has completed with errors.", "Critical", _NONE),
        },
    ),
    "ResourceEvent": Registry(
        "1.3.0", {"TestMessage": ("A test event.", "OK", _NONE), "ResourceChanged": ("One or more resource properties have changed.", "OK", _NONE)}
    ),
}  # fmt: skip


def message(key: str, *args: str, registry: str = "Base", related: str | None = None) -> dict[str, Any]:
    """One message as an error or an annotation carries it. Raises KeyError for one that no registry has."""
    found = REGISTRIES[registry]
    text, severity, resolution = found.messages[key]
    for number, arg in enumerate(args, start=1):
        text = text.replace(f"%{number}", arg)
    body: dict[str, Any] = {
        "@odata.type": "#Message.v1_1_2.Message",
        "MessageId": f"{registry}.{'.'.join(found.version.split('.')[:2])}.{key}",
        "Message": text,
        "MessageArgs": list(args),
        "MessageSeverity": severity,
        "Resolution": resolution,
    }
    if related:
        body["RelatedProperties"] = [f"#/{related}"]
    return body


def registry_body(prefix: str) -> dict[str, Any]:
    """A whole registry as a resource, without its head."""
    found = REGISTRIES[prefix]
    return {
        "Name": f"{prefix} messages",
        "Language": "en",
        "Description": f"The {prefix} messages that this service uses",
        "RegistryPrefix": prefix,
        "RegistryVersion": found.version,
        "OwningEntity": "DMTF",
        "Messages": {
            key: {
                "Description": text,
                "Message": text,
                "Severity": severity,
                "MessageSeverity": severity,
                "NumberOfArgs": text.count("%"),
                "Resolution": resolution,
            }
            for key, (text, severity, resolution) in found.messages.items()
        },
    }
