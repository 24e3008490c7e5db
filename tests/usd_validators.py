"""OpenUSD's own validators."""

from pxr import UsdValidation


def validators_find(stage):
    """What OpenUSD's own validators say."""
    context = UsdValidation.ValidationContext(UsdValidation.ValidationRegistry().GetOrLoadAllValidators())
    return [error.GetMessage() for error in context.Validate(stage)]
