"""Sign in, sign out, who am I."""

from __future__ import annotations

from django.contrib.auth import authenticate, login, logout
from django.middleware.csrf import get_token
from django.utils.decorators import method_decorator
from django.views.decorators.csrf import csrf_protect, ensure_csrf_cookie
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.permissions import AllowAny
from rest_framework.response import Response
from rest_framework.throttling import ScopedRateThrottle
from rest_framework.views import APIView

from ordnung.server.problems import Problem


class PersonSerializer(serializers.Serializer):
    name = serializers.CharField(allow_null=True)
    csrf = serializers.CharField()


class SignInSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=150)
    password = serializers.CharField(max_length=500, trim_whitespace=False)


class MeView(APIView):
    permission_classes = [AllowAny]

    @method_decorator(ensure_csrf_cookie)
    @extend_schema(responses=PersonSerializer)
    def get(self, request) -> Response:
        """Who is signed in (null: nobody), and the token every write has to carry."""
        user = request._request.user
        name = user.get_username() if user.is_authenticated else None
        return Response({"name": name, "csrf": get_token(request._request)})


@method_decorator(csrf_protect, name="dispatch")
class SignInView(APIView):
    permission_classes = [AllowAny]
    throttle_classes = [ScopedRateThrottle]
    throttle_scope = "sign-in"

    @extend_schema(request=SignInSerializer, responses=PersonSerializer)
    def post(self, request) -> Response:
        """Open a session."""
        body = SignInSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        user = authenticate(
            request._request, username=body.validated_data["name"], password=body.validated_data["password"]
        )
        if user is None:
            raise Problem("wrong-credentials", "That name and password don't go together.", status=401)
        login(request._request, user)
        return Response({"name": user.get_username(), "csrf": get_token(request._request)})


class SignOutView(APIView):
    @extend_schema(request=None, responses={204: None})
    def post(self, request) -> Response:
        """End the session."""
        logout(request._request)
        return Response(status=204)
